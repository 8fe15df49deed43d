package live

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
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
	v.Dirs = maps.Clone(v.Dirs) // others hold the same map
	for _, dir := range a.Dirs() {
		if v.Awaits(dir) { // a look would be the first access
			v.Dirs[dir] = true
			continue
		}
		state, err := m.ReadFile(dir)
		v.Dirs[dir] = err == nil && state.Dir
	}
	if d, ok := v.Node(a.Device); ok && d.Form == inventory.Image && a.Listed() {
		return &machine.Refusal{Rule: machine.RuleNoDevice, Thing: a.Device, Text: "an image is no device of this machine's kernel"}
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
	if errors.Is(err, unix.EBUSY) {
		return a.Busy(m.busyWith(a))
	}
	if later, short, refusal := (*machine.LaterError)(nil), (*machine.ShortError)(nil), (*machine.Refusal)(nil); errors.As(err, &later) || errors.As(err, &short) ||
		errors.As(err, &refusal) {
		return err
	}
	if why := forbidden(); errors.Is(err, unix.EPERM) && !strings.Contains(err.Error(), why) {
		return fmt.Errorf("%v: the kernel says: %w: %s", a, err, why)
	}
	return fmt.Errorf("%v: the kernel says: %w", a, err)
}

// busyWith names who keeps the kernel from the action, where that can be seen.
func (m *Machine) busyWith(a machine.Action) string {
	path := filepath.Join(m.at.dev, a.Device)
	if a.Number > 0 {
		_, path = scan.Name(inventory.Node{Name: a.Device, Path: path}, a.Number)
	}
	if who := m.whoHas(path); a.Device != "" && len(who) > 0 {
		return strings.Join(who, ", ") + " has it open"
	}
	return "something is using it"
}

// doing is how the running system does what a verb says.
type doing func(m *Machine, ctx context.Context, v *inventory.Inventory, a machine.Action) error

// doings has a row for each verb.
var doings = sync.OnceValue(func() map[machine.Verb]doing {
	return map[machine.Verb]doing{
		machine.AddPartition:    (*Machine).addPartition,
		machine.ResizePartition: (*Machine).resizePartition,
		machine.RemovePartition: (*Machine).removePartition,
		machine.ReadTable:       (*Machine).readTable,
		machine.ReadSize:        (*Machine).readSize,
		machine.ReloadUnits:     (*Machine).reload,
		machine.StartUnit:       (*Machine).startLine,
		machine.Start:           (*Machine).startNamed,
		machine.Stop:            (*Machine).startNamed,
		machine.SwapOn:          (*Machine).swap,
		machine.SwapOff:         (*Machine).swap,
		machine.Mount:           (*Machine).mount,
		machine.Remount:         (*Machine).remount,
		machine.Bind:            (*Machine).bind,
		machine.Unmount:         (*Machine).unmount,
		machine.Relabel:         (*Machine).relabel,
		machine.Identify:        (*Machine).identify,
		machine.Discard:         (*Machine).discard,
		machine.Grow:            (*Machine).grow,
	}
})

func (m *Machine) act(ctx context.Context, v *inventory.Inventory, a machine.Action) error {
	do, known := doings()[a.Verb]
	if !known {
		return fmt.Errorf("%v: %w", a, unix.ENOSYS)
	}
	return do(m, ctx, v, a)
}

func (m *Machine) resizePartition(_ context.Context, _ *inventory.Inventory, a machine.Action) error {
	return m.partition(a, unix.BLKPG_RESIZE_PARTITION)
}

func (m *Machine) removePartition(ctx context.Context, _ *inventory.Inventory, a machine.Action) error {
	return patiently(ctx, func() error {
		if err := m.partition(a, unix.BLKPG_DEL_PARTITION); !errors.Is(err, unix.ENXIO) {
			return err
		}
		return nil // it has none of that number
	})
}

func (m *Machine) readTable(ctx context.Context, _ *inventory.Inventory, a machine.Action) error {
	return patiently(ctx, func() error {
		return m.onDisk(a.Device, func(fd uintptr) error { return unix.IoctlSetInt(int(fd), unix.BLKRRPART, 0) })
	})
}

func (m *Machine) mount(ctx context.Context, v *inventory.Inventory, a machine.Action) error {
	n, _ := v.Node(a.Device)
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
}

func (m *Machine) unmount(_ context.Context, _ *inventory.Inventory, a machine.Action) error {
	flags := unix.UMOUNT_NOFOLLOW
	if a.Detach {
		flags |= unix.MNT_DETACH
	}
	err := unix.Unmount(m.below(a.Where), flags)
	if !errors.Is(err, unix.EBUSY) {
		return err
	}
	if who := m.holdersOf(m.below(a.Where)); len(who) > 0 {
		return a.Busy(strings.Join(who, "; "))
	}
	return a.Busy("the kernel itself uses it, or a process that only root may see")
}

// readSize has the driver ask the disk. Virtual disks announce a new size by
// themselves; SCSI, NVMe and loop devices want to be asked, each in its way.
func (m *Machine) readSize(_ context.Context, _ *inventory.Inventory, a machine.Action) error {
	disk := a.Device
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
// moment, such as a prober, lets go, or until the context ends.
func patiently(ctx context.Context, try func() error) (err error) {
	const tries, pause = 60, 50 * time.Millisecond
	for range tries {
		if err = try(); !errors.Is(err, unix.EBUSY) && !errors.Is(err, file.ErrLocked) {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
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
	return m.onDisk(a.Device, func(fd uintptr) error {
		p := blkpgPartition{start: int64(a.Start), length: int64(a.Size), number: int32(a.Number)}
		request := blkpg{op: op, length: int32(unsafe.Sizeof(p)), data: &p}
		if _, _, errno := unix.Syscall(unix.SYS_IOCTL, fd, unix.BLKPG, uintptr(unsafe.Pointer(&request))); errno != 0 {
			return errno
		}
		return nil
	})
}

// addPartition waits until the new node is there.
func (m *Machine) addPartition(ctx context.Context, v *inventory.Inventory, a machine.Action) error {
	if err := m.partition(a, unix.BLKPG_ADD_PARTITION); err != nil {
		return err
	}
	disk, _ := v.Node(a.Device)
	_, path := scan.Name(disk, a.Number)
	for until := time.Now().Add(3 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		if _, err := os.Stat(path); err == nil || time.Now().After(until) || ctx.Err() != nil {
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
	if !a.Listed() {
		v, err := m.lists(ctx)
		return err == nil && machine.Holds(v, a), err
	}
	d, err := m.listed(a.Device)
	if err != nil {
		return false, err
	}
	n := inventory.Node{Name: a.Device}
	for _, p := range d.parts {
		n.Kernel = append(n.Kernel, inventory.KernelPart{Number: p.number, Start: quantity.Bytes(p.start), Size: quantity.Bytes(p.size)})
	}
	return machine.Holds(&inventory.Inventory{Nodes: []inventory.Node{n}}, a), nil
}
