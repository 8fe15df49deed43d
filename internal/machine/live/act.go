package live

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"fundus/core/block/file"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/scan"
	"fundus/internal/machine"
)

// Do carries the action out through the kernel's own requests.
func (m *Machine) Do(ctx context.Context, v *inventory.Inventory, a machine.Action) error {
	v, err := machine.Looked(ctx, m, v)
	if err != nil {
		return err
	}
	for _, dir := range a.Dirs() {
		if v.Awaits(dir) { // a look would be the first access
			v.Dirs[dir] = true
			continue
		}
		state, err := m.ReadFile(dir)
		v.Dirs[dir] = err == nil && state.Dir
	}
	if d, ok := v.Node(a.Disk); ok && d.Form == inventory.Image && a.Verb != machine.Mount {
		return &machine.Refusal{Rule: machine.RuleNoDevice, Thing: a.Disk, Text: "an image is no device of this machine's kernel"}
	}
	machine.AskAbout(v, m, a)
	if err := machine.CheckAction(v, a); err != nil {
		return err
	}
	err = m.act(ctx, v, a)
	if err != nil {
		if holds, errHolds := m.Holds(ctx, a); holds && errHolds == nil {
			err = nil // udev had the kernel read the table meanwhile
		}
	}
	if err == nil {
		machine.Effect(v, a)
		return nil
	}
	if errors.Is(err, unix.EBUSY) && (a.Verb == machine.AddPartition || a.Verb == machine.ResizePartition) {
		return &machine.LaterError{Action: a, Why: "the kernel still has another partition there"}
	}
	if errors.Is(err, unix.EBUSY) {
		rule := map[machine.Verb]machine.Rule{machine.ReadTable: machine.RuleTableInUse, machine.RemovePartition: machine.RulePartitionUse, machine.Unmount: machine.RuleBusy}[a.Verb]
		if a.Verb == machine.Unmount {
			return &machine.Refusal{Rule: rule, Thing: a.Where, Text: "it is busy: " + m.busyWith(a), Next: "close what is open there; --wait=SECONDS waits for that, --detach does not"}
		}
		return &machine.Refusal{Rule: rule, Thing: a.Disk + a.Where, Text: fmt.Sprintf("cannot %v: %s", a, m.busyWith(a)), Next: "close what is open there, then run the command again"}
	}
	if later, short := (*machine.LaterError)(nil), (*machine.ShortError)(nil); errors.As(err, &later) || errors.As(err, &short) {
		return err
	}
	if why := forbidden(); errors.Is(err, unix.EPERM) && !strings.Contains(err.Error(), why) {
		return fmt.Errorf("%v: the kernel says: %w: %s", a, err, why)
	}
	return fmt.Errorf("%v: the kernel says: %w", a, err)
}

// busyWith names who keeps the kernel from the action, where that can be seen.
func (m *Machine) busyWith(a machine.Action) string {
	if a.Verb == machine.Unmount {
		if who := m.holdersOf(m.below(a.Where)); len(who) > 0 {
			return strings.Join(who, "; ")
		}
		return "the kernel itself uses it, or a process that only root may see"
	}
	path := filepath.Join(m.at.dev, a.Disk)
	if a.Number > 0 {
		_, path = scan.Name(inventory.Node{Name: a.Disk, Path: path}, a.Number)
	}
	if who := m.whoHas(path); a.Disk != "" && len(who) > 0 {
		return strings.Join(who, ", ") + " has it open"
	}
	return "somebody is using it"
}

func (m *Machine) act(ctx context.Context, v *inventory.Inventory, a machine.Action) error {
	switch a.Verb {
	case machine.AddPartition:
		return m.addPartition(v, a)
	case machine.ResizePartition:
		return m.partition(a, unix.BLKPG_RESIZE_PARTITION)
	case machine.ReadSize:
		return m.readSize(a.Disk)
	case machine.ReloadUnits:
		return m.reload(ctx, a)
	case machine.StartUnit:
		return m.startLine(ctx, a)
	case machine.Start, machine.Stop:
		return m.startNamed(ctx, a)
	case machine.SwapOn, machine.SwapOff:
		return m.swap(ctx, v, a)
	case machine.RemovePartition:
		return patiently(func() error {
			if err := m.partition(a, unix.BLKPG_DEL_PARTITION); !errors.Is(err, unix.ENXIO) {
				return err
			}
			return nil // it has none of that number
		})
	case machine.ReadTable:
		return patiently(func() error {
			return m.onDisk(a.Disk, func(fd uintptr) error { return unix.IoctlSetInt(int(fd), unix.BLKRRPART, 0) })
		})
	case machine.Mount:
		n, _ := v.Node(a.Node)
		if n.Form == inventory.Image || n.Parent != "" && slices.Contains(m.images, n.Parent) {
			return m.mountImage(v, n, a)
		}
		if err := m.Settle(ctx, []string{cmp.Or(n.Parent, n.Name)}); err != nil && !errors.Is(err, ErrSettle) {
			return err
		}
		if a.Make {
			if err := os.MkdirAll(m.below(a.Where), 0o755); err != nil {
				return err
			}
		}
		if started, err := m.startUnit(ctx, v, a); started || err != nil {
			return err
		}
		if v.Awaits(a.Where) {
			return fmt.Errorf("%s is mounted at the first access, by systemd, and nothing else is put over it", a.Where)
		}
		c, _ := n.Content()
		return m.attach(mounting{n.Path, m.below(a.Where), a.MountType(c), a.Options, n.Device})
	case machine.Remount:
		return m.remount(a)
	case machine.Bind:
		return m.bind(a)
	case machine.Unmount:
		flags := unix.UMOUNT_NOFOLLOW
		if a.Detach {
			flags |= unix.MNT_DETACH
		}
		return unix.Unmount(m.below(a.Where), flags)
	case machine.Relabel:
		return m.relabel(ctx, v, a)
	case machine.Identify:
		return m.identify(ctx, v, a)
	case machine.Discard:
		return m.discard(ctx, v, a)
	case machine.Grow:
		return m.grow(ctx, v, a)
	}
	return fmt.Errorf("%v: %w", a, unix.ENOSYS)
}

// readSize has the driver ask the disk. Virtual disks announce a new size by
// themselves; SCSI, NVMe and loop devices want to be asked, each in its way.
func (m *Machine) readSize(disk string) error {
	dir := filepath.Join(m.at.sys, "block", disk, "device")
	for _, name := range []string{"rescan", "rescan_controller"} {
		// Never created: sysfs refuses that with another error than that it is missing.
		f, err := os.OpenFile(filepath.Join(dir, name), os.O_WRONLY, 0)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err == nil {
			_, err = f.WriteString("1")
			err = errors.Join(err, f.Close())
		}
		return err
	}
	if attribute(filepath.Join(m.at.sys, "block", disk), "loop/backing_file") == "" {
		return nil
	}
	return m.onDisk(disk, func(fd uintptr) error { return unix.IoctlSetInt(int(fd), unix.LOOP_SET_CAPACITY, 0) })
}

func (m *Machine) below(where string) string { return filepath.Join(m.at.root, where) }

// patiently tries again while somebody who has the device open or locked for a
// moment, such as a prober, lets go.
func patiently(try func() error) (err error) {
	const tries, pause = 60, 50 * time.Millisecond
	for range tries {
		if err = try(); !errors.Is(err, unix.EBUSY) && !errors.Is(err, file.ErrLocked) {
			return err
		}
		time.Sleep(pause)
	}
	return err
}

func (m *Machine) onDisk(disk string, fn func(fd uintptr) error) error {
	f, err := os.Open(filepath.Join(m.at.dev, disk))
	if err != nil {
		return err
	}
	defer f.Close()
	return fn(f.Fd())
}

// Request and its argument: include/uapi/linux/blkpg.h.
type blkpg struct {
	op, flags, length int32
	_                 int32
	data              *blkpgPartition
}

type blkpgPartition struct {
	start, length int64 // bytes
	number        int32
	_             [64 + 64 + 4]byte // names, which the kernel does not use
}

func (m *Machine) partition(a machine.Action, op int32) error {
	return m.onDisk(a.Disk, func(fd uintptr) error {
		p := blkpgPartition{start: int64(a.Start), length: int64(a.Size), number: int32(a.Number)}
		request := blkpg{op: op, length: int32(unsafe.Sizeof(p)), data: &p}
		if _, _, errno := unix.Syscall(unix.SYS_IOCTL, fd, unix.BLKPG, uintptr(unsafe.Pointer(&request))); errno != 0 {
			return errno
		}
		return nil
	})
}

// addPartition waits until the new node is there.
func (m *Machine) addPartition(v *inventory.Inventory, a machine.Action) error {
	if err := m.partition(a, unix.BLKPG_ADD_PARTITION); err != nil {
		return err
	}
	disk, _ := v.Node(a.Disk)
	_, path := scan.Name(disk, a.Number)
	for until := time.Now().Add(3 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		if _, err := os.Stat(path); err == nil || time.Now().After(until) {
			return err
		}
	}
}

// Holds looks at the kernel's own lists.
func (m *Machine) Holds(ctx context.Context, a machine.Action) (bool, error) {
	if !a.Visible() {
		return false, nil
	}
	if a.Reads() {
		v, err := m.Inventory(ctx)
		return err == nil && machine.Holds(v, a), err
	}
	if a.Disk == "" {
		v, err := m.lists(ctx)
		return err == nil && machine.Holds(v, a), err
	}
	d, err := m.listed(a.Disk)
	if err != nil {
		return false, err
	}
	n := inventory.Node{Name: a.Disk}
	for _, p := range d.parts {
		n.Kernel = append(n.Kernel, inventory.KernelPart{Number: p.number, Start: quantity.Bytes(p.start), Size: quantity.Bytes(p.size)})
	}
	return machine.Holds(&inventory.Inventory{Nodes: []inventory.Node{n}}, a), nil
}
