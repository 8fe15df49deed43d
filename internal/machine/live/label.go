package live

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"unsafe"

	"golang.org/x/sys/unix"

	"fundus/core/block"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/way"
	"fundus/internal/machine"
)

// setLabel is the kernel's request for a mounted file system, and labelSize the bytes of its
// argument: FS_IOC_SETFSLABEL and FSLABEL_MAX of include/uapi/linux/fs.h. setUUID is that of
// ext4, EXT4_IOC_SETFSUUID of fs/ext4/ext4.h, whose argument is a length, flags and the bytes.
const (
	setLabel  = 1<<30 | labelSize<<16 | 0x94<<8 | 50
	labelSize = 256
	setUUID   = 1<<30 | 8<<16 | 'f'<<8 | 44
)

// relabel has the kernel change the label of a mounted file system, which keeps its
// superblock in memory; one that is not mounted is written to. Then udev is told: it looks at
// a device anew when somebody who wrote to it closes it, and nobody did.
func (m *Machine) relabel(ctx context.Context, v *inventory.Inventory, a machine.Action) error {
	n, _ := v.Node(a.Device)
	var word [labelSize]byte
	copy(word[:], a.Label)
	return m.throughMount(ctx, v, n, mountCall{setLabel, word[:], "for the label of a mounted file system (Linux has it since 5.17)"},
		func(k kind.Kind, dev block.Device) error { return k.SetLabel(dev, a.Label) })
}

// identify is the same for the identifier of an ext4.
func (m *Machine) identify(ctx context.Context, v *inventory.Inventory, a machine.Action) error {
	n, _ := v.Node(a.Device)
	c, _ := n.Content()
	k, _ := kind.Of(c)
	id, err := k.Makes[0].ID.Parse(a.ID)
	if err != nil {
		return err
	}
	wide := id.UUID()
	word := binary.NativeEndian.AppendUint32(nil, uint32(len(wide)))
	word = append(append(word, 0, 0, 0, 0), wide[:]...) // no flags
	return m.throughMount(ctx, v, n, mountCall{setUUID, word, "for the UUID of a mounted file system (Linux has it since 6.0)"},
		func(k kind.Kind, dev block.Device) error { return k.SetID(dev, id) })
}

// mountCall is a request of a mounted file system.
type mountCall struct {
	request  uintptr
	argument []byte
	what     string // that a kernel without it has no call for
}

// throughMount makes the request where the file system is mounted, and changes the device
// itself where it is not. Then udev is told.
func (m *Machine) throughMount(ctx context.Context, v *inventory.Inventory, n inventory.Node, call mountCall, offline func(kind.Kind, block.Device) error) error {
	mounts := machine.Mounts(v, n.Name)
	if len(mounts) == 0 {
		return m.onDevice(ctx, v, n, offline)
	}
	f, err := m.openMount(n, mounts)
	if err != nil {
		return err
	}
	defer f.Close()
	if _, _, errno := unix.Syscall(unix.SYS_IOCTL, f.Fd(), call.request, uintptr(unsafe.Pointer(&call.argument[0]))); errno != 0 {
		err = errno
	}
	if errors.Is(err, unix.ENOTTY) || errors.Is(err, unix.EOPNOTSUPP) {
		return &machine.Refusal{
			Rule:  machine.RuleWrongKind,
			Thing: n.Name,
			Text:  "this kernel has no call " + call.what,
			Next:  way.Unmount(mounts[0].Where),
		}
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

func (m *Machine) onDevice(ctx context.Context, v *inventory.Inventory, n inventory.Node, change func(kind.Kind, block.Device) error) error {
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
	return change(k, part)
}
