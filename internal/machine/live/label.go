package live

import (
	"context"
	"errors"
	"fmt"
	"os"
	"unsafe"

	"golang.org/x/sys/unix"

	"fundus/core/block"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/internal/machine"
)

// setLabel is the kernel's request for a mounted file system, and labelSize the bytes of its
// argument: FS_IOC_SETFSLABEL and FSLABEL_MAX of include/uapi/linux/fs.h.
const (
	setLabel  = 1<<30 | labelSize<<16 | 0x94<<8 | 50
	labelSize = 256
)

// relabel has the kernel change the label of a mounted file system, which keeps its
// superblock in memory; one that is not mounted is written to. Then udev is told: it looks at
// a device anew when somebody who wrote to it closes it, and nobody did.
func (m *Machine) relabel(ctx context.Context, v *inventory.Inventory, a machine.Action) error {
	n, _ := v.Node(a.Node)
	mounts := machine.Mounts(v, n.Name)
	if len(mounts) == 0 {
		return m.writeLabel(ctx, v, n, a.Label)
	}
	f, err := m.openMount(n, mounts)
	if err != nil {
		return err
	}
	defer f.Close()
	var word [labelSize]byte
	copy(word[:], a.Label)
	if _, _, errno := unix.Syscall(unix.SYS_IOCTL, f.Fd(), setLabel, uintptr(unsafe.Pointer(&word))); errno != 0 {
		err = errno
	}
	if errors.Is(err, unix.ENOTTY) || errors.Is(err, unix.EOPNOTSUPP) {
		return &machine.Refusal{Rule: machine.RuleWrongKind, Thing: n.Name, Text: "this kernel has no call for the label of a mounted file system (Linux has it since 5.17)", Next: "fundus unmount " + mounts[0].Where}
	}
	if err != nil {
		return err
	}
	m.announce(v, n.Name)
	if err := m.Settle(ctx, []string{n.Disk()}); err != nil && !errors.Is(err, ErrSettle) {
		return err
	}
	return nil
}

// openMount opens the root directory of the first of the mounts that no other mount covers.
func (m *Machine) openMount(n inventory.Node, mounts []inventory.Use) (*os.File, error) {
	var errs error
	for _, u := range mounts {
		f, err := os.Open(m.below(u.Where))
		if err != nil {
			errs = errors.Join(errs, err)
			continue
		}
		var st unix.Stat_t
		err = unix.Fstat(int(f.Fd()), &st)
		if on := fmt.Sprintf("%d:%d", unix.Major(st.Dev), unix.Minor(st.Dev)); err == nil && (n.Device == "" || n.Device == on) {
			return f, nil
		}
		errs = errors.Join(errs, err, fmt.Errorf("%s is covered by another mount: unmount that first", u.Where), f.Close())
	}
	return nil, errs
}

func (m *Machine) writeLabel(ctx context.Context, v *inventory.Inventory, n inventory.Node, label string) error {
	c, _ := n.Content()
	k, _ := kind.Of(c)
	claim, err := m.Claim(ctx, v, []machine.Target{machine.Whole(n, machine.HoldContent)})
	if err != nil {
		return err
	}
	defer claim.Release()
	dev, err := claim.Device(n.Disk())
	if err != nil {
		return err
	}
	part, err := block.NewSlice(dev, int64(n.Start), int64(n.Size))
	if err != nil {
		return err
	}
	return k.SetLabel(part, label)
}
