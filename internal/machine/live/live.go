// Package live is the machine that this program runs on: its disks as the
// kernel lists them in sysfs, its mounts and swaps from procfs, and image files
// as disks of their own.
//
// Source: Documentation/ABI/stable/sysfs-block and proc(5).
package live

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"fundus/core/block"
	"fundus/core/inventory"
	"fundus/core/refused"
	"fundus/internal/machine"
	"fundus/internal/machine/files"
	"fundus/internal/machine/image"
	"fundus/internal/oscall"
)

// Machine is this machine, or some image files on it.
type Machine struct {
	host     string
	images   []string
	at       places
	patience *patience
}

// places are where the kernel shows itself; tests have trees of their own.
type places struct{ sys, proc, dev, root string }

var _ machine.Machine = (*Machine)(nil)

// New is this machine; with image files, by the names that were typed, it is
// those and nothing else. Text files and mount points are those of the system
// below root, "" for the running one. A disk that has not answered a first read
// after wait is not read; 0 waits as long as it takes.
func New(images []string, root string, wait time.Duration) (*Machine, error) {
	host, err := os.Hostname()
	if err != nil {
		return nil, err
	}
	if root, err = filepath.Abs(cmp.Or(root, "/")); err != nil {
		return nil, err
	}
	if info, err := os.Stat(root); err != nil || !info.IsDir() {
		return nil, refused.As(refused.NoDirectory, fmt.Errorf("--root %s: there is no such directory; mount the system there first", root))
	}
	return &Machine{host, images, places{"/sys", "/proc", "/dev", root}, newPatience(wait)}, nil
}

// Knows reports whether the word is the name of a block device of this machine: an image
// file of that name is meant by its path.
func Knows(word string) bool {
	if word == "" || strings.ContainsAny(word, "/") || word == "." || word == ".." {
		return false
	}
	_, err := os.Stat(filepath.Join("/sys/class/block", word))
	return err == nil
}

// Locked says who else has locked the disk's node, or the image.
func (m *Machine) Locked(disk string) string {
	if slices.Contains(m.images, disk) {
		return oscall.LockedBy(disk)
	}
	return oscall.LockedBy(filepath.Join(m.at.dev, strings.ReplaceAll(disk, "!", "/")))
}

// Root is the running system's root.
func (m *Machine) Root() string { return m.at.root }

// SystemState is where root's deeds and drafts lie.
const SystemState = "/var/lib/fundus"

// StateDir is the user's state directory where that is set, whoever the user is; else
// SystemState for root, and the usual place in their home for others.
func (m *Machine) StateDir() string {
	base := os.Getenv("XDG_STATE_HOME")
	if base == "" && os.Getuid() == 0 {
		return SystemState
	}
	if base == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			home = "."
		}
		base = filepath.Join(home, ".local", "state")
	}
	return filepath.Join(base, "fundus")
}

// Inventory reads the images, or else the machine.
func (m *Machine) Inventory(ctx context.Context) (*inventory.Inventory, error) {
	v := &inventory.Inventory{Machine: inventory.Machine{
		Kind:     "machine",
		Name:     m.host,
		BootID:   m.bootID(),
		Now:      time.Now(),
		Systemd:  m.systemdRuns(),
		Firmware: m.firmware(),
	},
		Files: map[string]inventory.File{}, Leads: map[string]string{}, Sources: map[string]bool{}, Dirs: map[string]bool{}}
	for _, path := range m.images {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		nodes, err := image.Scan(ctx, path)
		if err != nil {
			return nil, err
		}
		v.Nodes = append(v.Nodes, nodes...)
	}
	if m.at.root != "/" {
		v.Machine.Root = m.at.root
	}
	v.Machine.Apart = m.apart()
	if len(m.images) > 0 {
		return v, m.imageUses(ctx, v)
	}
	if err := m.discover(ctx, v); err != nil {
		return nil, err
	}
	return v, files.Read(v, m)
}

// systemdRuns looks for systemd, for the running system's own root only
// (sd_booted(3)).
func (m *Machine) systemdRuns() bool {
	_, err := os.Stat(filepath.Join(m.at.root, "run/systemd/system"))
	return err == nil
}

// apart reports whether this process has another tree of mounts than the first one; where that
// may not be looked at it counts as the same.
func (m *Machine) apart() bool {
	own, errOwn := os.Readlink(filepath.Join(m.at.proc, "self/ns/mnt"))
	first, errFirst := os.Readlink(filepath.Join(m.at.proc, "1/ns/mnt"))
	return errOwn == nil && errFirst == nil && own != first
}

// firmware is what started the machine. Without the kernel's directory for UEFI it was a
// BIOS on the machines that have one; others are started by something else.
func (m *Machine) firmware() string {
	if _, err := os.Stat(filepath.Join(m.at.sys, "firmware/efi")); err == nil {
		return "UEFI"
	}
	if runtime.GOARCH == "amd64" || runtime.GOARCH == "386" {
		return "BIOS"
	}
	return ""
}

func (m *Machine) bootID() string {
	data, err := os.ReadFile(filepath.Join(m.at.proc, "sys/kernel/random/boot_id"))
	if err != nil {
		return "unknown"
	}
	return strings.TrimSpace(string(data))
}

// Open opens a disk or an image for reading.
func (m *Machine) Open(ctx context.Context, disk string) (block.Device, error) {
	if slices.Contains(m.images, disk) {
		return image.Open(disk)
	}
	d, err := m.listed(disk)
	if err != nil {
		return nil, err
	}
	m.patience.ask(ctx, []listed{d})
	if err := m.patience.check(d); err != nil {
		return nil, fmt.Errorf("%s: %w", disk, err)
	}
	return m.open(d)
}

// List names the files of a directory of the running system.
func (m *Machine) List(path string) ([]string, error) {
	at, err := machine.Below(m.Root(), path)
	if err != nil {
		return nil, err
	}
	return files.ListDir(at.Full)
}

// ReadFile reads a text file of the running system.
func (m *Machine) ReadFile(path string) (machine.FileState, error) {
	at, err := machine.Below(m.Root(), path)
	if err != nil {
		return machine.FileState{}, err
	}
	return machine.ReadFileState(at.Full)
}

// Place says where a text file lies.
func (m *Machine) Place(path string) (machine.Place, error) {
	at, err := machine.Below(m.Root(), path)
	if err != nil {
		return at, err
	}
	return at.Known(m.Root()), nil
}
