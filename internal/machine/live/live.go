// Package live is the machine that this program runs on. At present it knows
// image files: they are its disks, and no text file of the running system is
// read for them.
package live

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"fundus/core/block"
	"fundus/core/inventory"
	"fundus/internal/machine"
	"fundus/internal/machine/image"
	"fundus/internal/oscall"
)

// Machine is this machine with some image files.
type Machine struct {
	host   string
	images []string
}

var _ machine.Machine = (*Machine)(nil)

// ErrOwnDisks says what this release cannot look at.
var ErrOwnDisks = errors.New("the disks of this machine itself are not looked at yet; name an image file, or work on a bench: fundus bench new DIR")

// New is this machine with the image files, by the names that were typed.
func New(images []string) (*Machine, error) {
	host, err := os.Hostname()
	if err != nil {
		return nil, err
	}
	return &Machine{host, images}, nil
}

// Root is the running system's root.
func (m *Machine) Root() string { return "/" }

// StateDir is /var/lib/fundus for root, else in the user's state directory.
func (m *Machine) StateDir() string {
	if os.Getuid() == 0 {
		return "/var/lib/fundus"
	}
	base := os.Getenv("XDG_STATE_HOME")
	if base == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			home = "."
		}
		base = filepath.Join(home, ".local", "state")
	}
	return filepath.Join(base, "fundus")
}

// Inventory reads the images.
func (m *Machine) Inventory(ctx context.Context) (*inventory.Inventory, error) {
	v := &inventory.Inventory{Machine: inventory.Machine{Kind: "machine", Name: m.host, BootID: bootID()},
		Files: map[string]inventory.File{}, Dirs: map[string]bool{}}
	if len(m.images) == 0 {
		return nil, ErrOwnDisks
	}
	for _, path := range m.images {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		nodes, err := image.Scan(path)
		if err != nil {
			return nil, err
		}
		v.Nodes = append(v.Nodes, nodes...)
	}
	return v, nil
}

func bootID() string {
	data, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return "unknown"
	}
	return strings.TrimSpace(string(data))
}

// Open opens an image for reading.
func (m *Machine) Open(_ context.Context, disk string) (block.Device, error) { return image.Open(disk) }

// ReadFile reads a text file of the running system.
func (m *Machine) ReadFile(path string) (machine.FileState, error) {
	full, err := oscall.Inside(m.Root(), path)
	if err != nil {
		return machine.FileState{}, err
	}
	return machine.ReadFileState(full)
}

// Claim locks the images.
func (m *Machine) Claim(ctx context.Context, targets []machine.Target) (*machine.Claim, error) {
	v, err := m.Inventory(ctx)
	if err != nil {
		return nil, err
	}
	return machine.ClaimEach(v, targets, func(disk string) (block.Device, error) { return image.Claim(disk, block.DefaultGeometry) })
}

// Do refuses: images have no place in the running kernel.
func (m *Machine) Do(_ context.Context, a machine.Action) error {
	return &machine.Refusal{Rule: machine.RuleNoDevice, Thing: a.Disk + a.Node, Text: fmt.Sprintf("cannot %v: Fundus does not act on this machine's kernel yet", a), Next: "try it on a bench: fundus bench new"}
}

// Holds reports false: no action was ever carried out.
func (m *Machine) Holds(context.Context, machine.Action) (bool, error) { return false, nil }
