package live

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"fundus/core/inventory"
	"fundus/core/scan"
	"fundus/internal/machine"
)

// Do carries the action out through the kernel's own requests.
func (m *Machine) Do(ctx context.Context, a machine.Action) error {
	v, err := m.Inventory(ctx)
	if err != nil {
		return err
	}
	if a.Verb == machine.Mount {
		state, err := m.ReadFile(a.Where)
		v.Dirs[a.Where] = err == nil && state.Dir
	}
	if d, ok := v.Node(a.Disk); ok && d.Form == inventory.Image {
		return &machine.Refusal{Rule: machine.RuleNoDevice, Thing: a.Disk, Text: "an image is no device of this machine's kernel"}
	}
	if err := machine.CheckAction(v, a); err != nil {
		return err
	}
	err = m.act(v, a)
	if errors.Is(err, unix.EBUSY) {
		rule := map[machine.Verb]machine.Rule{machine.ReadTable: machine.RuleTableInUse, machine.RemovePartition: machine.RulePartitionUse, machine.Unmount: machine.RuleBusy}[a.Verb]
		return &machine.Refusal{Rule: rule, Thing: a.Disk + a.Where, Text: fmt.Sprintf("cannot %v: somebody is using it", a), Next: "close what is open there, then run the command again"}
	}
	if err != nil {
		return fmt.Errorf("%v: the kernel says: %w", a, err)
	}
	return nil
}

func (m *Machine) act(v *inventory.Inventory, a machine.Action) error {
	switch a.Verb {
	case machine.AddPartition:
		return m.addPartition(v, a)
	case machine.RemovePartition:
		return patiently(func() error { return m.partition(a, unix.BLKPG_DEL_PARTITION) })
	case machine.ReadTable:
		return patiently(func() error {
			return m.onDisk(a.Disk, func(fd uintptr) error { return unix.IoctlSetInt(int(fd), unix.BLKRRPART, 0) })
		})
	case machine.Mount:
		n, _ := v.Node(a.Node)
		c, _ := n.Content()
		flags, data := splitOptions(a.Options)
		return unix.Mount(n.Path, m.below(a.Where), mountKind(a.Kind, c.Kind), flags, data)
	case machine.Unmount:
		return unix.Unmount(m.below(a.Where), 0)
	}
	return fmt.Errorf("%v is not possible yet: %w", a, unix.ENOSYS)
}

func (m *Machine) below(where string) string { return filepath.Join(m.at.root, where) }

// mountKind is the kernel's name for the kind.
func mountKind(asked, found string) string {
	if asked != "" && asked != "auto" {
		return asked
	}
	if strings.HasPrefix(found, "FAT") {
		return "vfat"
	}
	return found
}

// patiently tries again while somebody who has the device open for a moment,
// such as a prober, lets go.
func patiently(try func() error) (err error) {
	for range 20 {
		if err = try(); !errors.Is(err, unix.EBUSY) {
			return err
		}
		time.Sleep(50 * time.Millisecond)
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

// splitOptions tells flags of mount(2) from data for the file system. What is
// for systemd and for the tools around it is left out.
func splitOptions(options string) (flags uintptr, data string) {
	set := map[string]uintptr{"ro": unix.MS_RDONLY, "nosuid": unix.MS_NOSUID, "nodev": unix.MS_NODEV, "noexec": unix.MS_NOEXEC, "sync": unix.MS_SYNCHRONOUS,
		"dirsync": unix.MS_DIRSYNC, "noatime": unix.MS_NOATIME, "nodiratime": unix.MS_NODIRATIME, "relatime": unix.MS_RELATIME, "strictatime": unix.MS_STRICTATIME, "lazytime": unix.MS_LAZYTIME}
	cleared := map[string]uintptr{"rw": unix.MS_RDONLY, "suid": unix.MS_NOSUID, "dev": unix.MS_NODEV, "exec": unix.MS_NOEXEC, "async": unix.MS_SYNCHRONOUS, "atime": unix.MS_NOATIME}
	skipped := []string{"", "defaults", "auto", "noauto", "nofail", "user", "nouser", "users", "owner", "group", "_netdev"}
	var rest []string
	for o := range strings.SplitSeq(options, ",") {
		name, _, _ := strings.Cut(o, "=")
		switch {
		case set[o] != 0:
			flags |= set[o]
		case cleared[o] != 0:
			flags &^= cleared[o]
		case slices.Contains(skipped, name) || strings.HasPrefix(name, "x-") || name == "comment":
		default:
			rest = append(rest, o)
		}
	}
	return flags, strings.Join(rest, ",")
}

// Holds looks at the kernel's own lists.
func (m *Machine) Holds(ctx context.Context, a machine.Action) (bool, error) {
	switch a.Verb {
	case machine.AddPartition, machine.RemovePartition:
		d, err := m.listed(a.Disk)
		if err != nil {
			return false, err
		}
		known := slices.ContainsFunc(d.parts, func(p kernelPart) bool {
			return p.number == a.Number && p.start == int64(a.Start) && p.size == int64(a.Size)
		})
		return known == (a.Verb == machine.AddPartition), nil
	case machine.Mount, machine.Unmount:
		v, err := m.Inventory(ctx)
		if err != nil {
			return false, err
		}
		use, mounted := v.MountedAt(a.Where)
		if a.Verb == machine.Mount {
			return mounted && use.Node == a.Node, nil
		}
		return !mounted, nil
	}
	return false, nil
}
