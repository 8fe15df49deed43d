// Package machine is the seam between Fundus and what it works on. A Reader
// looks; an Actor changes the running system; Claim, which only deeds, benches
// and tests use, gives devices for writing. Two kinds of machine implement
// them: package live, the Linux that this program runs on, and package bench,
// a simulated one. What both refuse, and in which words, stands in rules.go.
package machine

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"
	"time"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/internal/oscall"
)

// Reader looks at a machine.
type Reader interface {
	// Inventory reads everything that is known.
	Inventory(ctx context.Context) (*inventory.Inventory, error)
	// Open opens a whole disk for reading.
	Open(ctx context.Context, disk string) (block.Device, error)
	// Locked says who else has the disk locked now, and so may be changing it; empty for
	// nobody, and where that cannot be seen.
	Locked(disk string) (who string)
	// ReadFile reads a text file or looks at a directory of the machine.
	ReadFile(path string) (FileState, error)
	// Place says where a text file or a mount point lies, links followed.
	Place(path string) (Place, error)
	// List names the files of a directory, in order; none where there is no such
	// directory.
	List(path string) ([]string, error)
}

// FileState is a text file or a directory as it is, or is to be.
type FileState struct {
	Missing    bool              `json:"missing,omitempty"`
	Dir        bool              `json:"dir,omitempty"`
	Data       []byte            `json:"data,omitempty"`
	Attributes oscall.Attributes `json:"attributes,omitzero"`
}

// Same reports whether both are the same.
func (f FileState) Same(o FileState) bool {
	return f.Missing == o.Missing && f.Dir == o.Dir && bytes.Equal(f.Data, o.Data) && (f.Missing || f.Attributes == o.Attributes)
}

// ReadFileState reads what lies at the path on this system.
func ReadFileState(path string) (FileState, error) {
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return FileState{Missing: true}, nil
	}
	if err != nil {
		return FileState{}, err
	}
	if info.IsDir() {
		return FileState{Dir: true, Attributes: oscall.Attributes{Mode: info.Mode().Perm(), UID: os.Getuid(), GID: os.Getgid()}}, nil
	}
	switch {
	case info.Mode()&fs.ModeCharDevice != 0: // a mask leads to one that holds nothing
		return FileState{}, nil
	case !info.Mode().IsRegular(): // who reads a pipe waits for whoever writes into it
		return FileState{}, &fs.PathError{Op: "read", Path: path, Err: ErrNoText}
	}
	data, attributes, err := oscall.ReadFile(path)
	return FileState{Data: data, Attributes: attributes}, err
}

// ErrNoText is what stands in the place of a text file and is none: a pipe, a socket, a disk.
var ErrNoText = errors.New("not a file that could be read")

// Actor changes the running system.
type Actor interface {
	// Do carries the action out, or refuses with a *Refusal. The rules look at v, which
	// the caller took and may use for a list of actions: what each brings about is so in
	// v afterwards. Without v the machine is looked at.
	//
	// Errors: *Refusal before anything was done; *LaterError where only the next boot brings it
	// about, and *ShortError where it came to something else than was asked for: both count as
	// done. Any other is the kernel's, and nothing came of it.
	Do(ctx context.Context, v *inventory.Inventory, a Action) error
	// Holds reports whether what the action brings about is so now.
	Holds(ctx context.Context, a Action) (bool, error)
}

// Looked is the look that was taken already, or else a new one.
func Looked(ctx context.Context, r Reader, v *inventory.Inventory) (*inventory.Inventory, error) {
	if v != nil {
		return v, nil
	}
	return r.Inventory(ctx)
}

// Event is a disk that came, changed or went.
type Event struct {
	Name          string
	Came, Changed bool             // neither: it went
	Lost          bool             // too much happened at once: look anew
	Nodes         []inventory.Node // the disk and its partitions, where it is there
}

// Patience is how long a disk may take to answer, unless it is said otherwise:
// enough for one that was asleep to spin up.
const Patience = 10 * time.Second

// SilentError is a disk that did not answer a first read in time.
type SilentError struct{ Waited time.Duration }

func (e *SilentError) Error() string {
	return fmt.Sprintf("it did not answer within %v: it hangs, or is still starting up; look again later, and at the kernel's log", e.Waited)
}

// Machine is all of it.
type Machine interface {
	Reader
	Actor
	// Claim locks the disks of the targets and checks that no content to be
	// changed is in use, as far as v says; the kernel decides. Without v the machine
	// is looked at.
	Claim(ctx context.Context, v *inventory.Inventory, targets []Target) (*Claim, error)
	// Root is the directory that stands for / in File steps.
	Root() string
	// StateDir is where deeds and drafts lie unless --state says otherwise.
	StateDir() string
}

// Hold is how a target holds its device while it is written.
type Hold string

// The holds.
const (
	// HoldTable is for a table: its disk is locked, and its partitions go on.
	HoldTable Hold = "table"
	// HoldContent is for what a partition or a bare disk holds: nobody else uses it.
	HoldContent Hold = "content"
	// HoldBeside is for what lies beside that which is in use, such as the metadata of a
	// group whose volumes are: the users go on, and spans that they use are refused.
	HoldBeside Hold = "beside"
)

// Target is what a deed is going to write.
type Target struct {
	Device string         `json:"device"`      // name of the device
	Start  quantity.Bytes `json:"start_bytes"` // of the span on it
	Size   quantity.Bytes `json:"size_bytes"`
	Hold   Hold           `json:"hold"`
	// Mapping is where the device's bytes lie, of one that is put together from others and need not
	// be there: then what it lies on is.
	Mapping *Mapping `json:"mapping,omitempty"`
}

// Mapping are the runs of a device on others, which are whole ones; see block.Mapped.
type Mapping struct {
	Set     string      `json:"set"` // what the device belongs to, by its identifier
	ID      string      `json:"id"`  // of the device
	Devices []string    `json:"devices"`
	Runs    []block.Run `json:"runs"`
}

// Span is the target's span in bytes.
func (t Target) Span() extent.Span { return extent.Span{Start: uint64(t.Start), Count: uint64(t.Size)} }

// Takes reports whether the target wants a span of the device for itself alone.
func (t Target) Takes(disk string, span extent.Span) bool {
	return t.Device == disk && t.Hold == HoldContent && t.Span().Overlaps(span)
}

// ErrUnclaimed is a device that a claim does not have.
var ErrUnclaimed = errors.New("it is not claimed")

// Claim is the right to write to some disks.
type Claim struct {
	devices map[string]block.Device
	release func()
}

// NewClaim makes a claim; release is called once.
func NewClaim(devices map[string]block.Device, release func()) *Claim {
	return &Claim{devices, release}
}

// ClaimEach claims the disks of the targets in order of their names, once each,
// after the rules have let every target pass. Where one cannot be opened, those
// before it are released.
func ClaimEach(v *inventory.Inventory, targets []Target, open func(disk string) (block.Device, error)) (*Claim, error) {
	devices := map[string]block.Device{}
	claim := NewClaim(devices, func() {
		for _, d := range devices {
			d.Close()
		}
	})
	sorted := slices.Clone(targets)
	slices.SortStableFunc(sorted, func(a, b Target) int { return strings.Compare(a.Device, b.Device) })
	for _, t := range sorted {
		err := CheckClaim(v, t)
		if err == nil && devices[t.Device] == nil {
			var d block.Device
			if d, err = open(t.Device); err == nil {
				devices[t.Device] = d
			}
		}
		if err != nil {
			claim.Release()
			return nil, err
		}
	}
	return claim, nil
}

// Device is the claimed disk, for writing.
func (c *Claim) Device(disk string) (block.Device, error) {
	d, ok := c.devices[disk]
	if !ok {
		return nil, fmt.Errorf("%s: %w", disk, ErrUnclaimed)
	}
	return d, nil
}

// LetGoOfPartitions closes the disk's partitions, which the kernel forgets only
// then, and keeps the disk itself and its lock: nobody else reads a table that is
// being changed.
func (c *Claim) LetGoOfPartitions(disk string) error {
	if c == nil {
		return nil
	}
	if d, ok := c.devices[disk].(interface{ LetGoOfPartitions() error }); ok {
		return d.LetGoOfPartitions()
	}
	return nil
}

// TakeUp opens the partition that the kernel was just told of, so that what is written
// to its span goes through its own node: whoever reads that has pages of its own.
func (c *Claim) TakeUp(a Action) error {
	if c == nil {
		return nil
	}
	if d, ok := c.devices[a.Device].(interface{ TakeUp(a Action) error }); ok {
		return d.TakeUp(a)
	}
	return nil
}

// Release lets go; it may be called again.
func (c *Claim) Release() {
	if c != nil && c.release != nil {
		c.release()
		c.release = nil
	}
}

// Whole is the target for all of a node's bytes.
func Whole(n inventory.Node, hold Hold) Target {
	return Target{Device: n.Disk(), Start: n.Start, Size: n.Size, Hold: hold}
}
