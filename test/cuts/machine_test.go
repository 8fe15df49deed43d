package cuts

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/quantity"
	"fundus/core/scan"
	"fundus/internal/deed"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/machine/files"
	"fundus/internal/task"
)

// rig is a machine with one disk in memory whose power can be cut. What the
// medium holds is an overlay over an earlier rig's medium, so that each cut
// starts from the same bytes without copying them.
type rig struct {
	medium *block.Overlay
	fault  block.Fault
	faulty *block.Faulty
	root   string
	known  []inventory.KernelPart
	open   map[int]bool // partitions whose nodes a claim has open: the kernel forgets none of them
	files  bool         // text files change: each copy has its own
	areas  []inventory.Area
	mounts []inventory.Use
	// recorder notes what is asked of the device, where it is set.
	recorder *run
	looks    *looks // counts who looks, where it is set
}

var _ machine.Machine = (*rig)(nil)

var clock = time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)

const diskSize = 40 << 20

// memoryDir is a directory in which a sync costs nothing.
func memoryDir(t testing.TB) string {
	t.Helper()
	base := "/dev/shm"
	if _, err := os.Stat(base); err != nil {
		base = ""
	}
	dir, err := os.MkdirTemp(base, "fundus-cuts-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

func newRig(t testing.TB, physical, logical int64) *rig {
	t.Helper()
	r := &rig{medium: block.NewMemory(diskSize, block.Geometry{Logical: logical, Physical: physical}), fault: block.NoFault, root: memoryDir(t)}
	if err := os.MkdirAll(filepath.Join(r.root, "etc"), 0o755); err != nil {
		t.Fatal(err)
	}
	return r
}

// larger gives an empty rig a disk that an XFS fits on.
func (r *rig) larger() {
	const enough = 100 << 20
	r.medium = block.NewMemory(enough, r.medium.Geometry())
}

// clone has the same bytes, and the power back.
func (r *rig) clone() *rig {
	return &rig{medium: block.NewOverlay(r.medium, block.Spill{}), fault: block.NoFault, root: r.root, known: slices.Clone(r.known), files: r.files, areas: slices.Clone(r.areas), mounts: r.mounts}
}

// apart is a clone with text files of its own, where they change.
func (r *rig) apart(t testing.TB) *rig {
	t.Helper()
	c := r.clone()
	if r.files {
		c.root = memoryDir(t)
		copyTree(t, r.root, c.root)
	}
	return c
}

func (r *rig) Locked(string) string { return "" }
func (r *rig) Root() string         { return r.root }
func (r *rig) StateDir() string     { return filepath.Join(r.root, "state") }

func (r *rig) node() inventory.Node {
	return inventory.Node{Name: "sdb", Path: "/dev/sdb", Form: inventory.Disk, Size: quantity.Bytes(r.medium.Size()), Geometry: r.medium.Geometry(), InKernel: true, Kernel: r.known,
		Hardware: inventory.Hardware{Model: "Larkspur S300", Serial: "LS-20417", Discard: 4096},
		Identity: inventory.Identity{Disk: "sata Larkspur S300 LS-20417", Own: true, Size: quantity.Bytes(r.medium.Size()), Sector: quantity.Bytes(r.medium.Geometry().Logical)}}
}

func (r *rig) Inventory(context.Context) (*inventory.Inventory, error) {
	v := &inventory.Inventory{Machine: inventory.Machine{Kind: "bench", Name: "rig", BootID: "one"}, Files: map[string]inventory.File{}, Dirs: map[string]bool{}, Leads: map[string]string{}, Sources: map[string]bool{}}
	v.Nodes, v.Areas, v.Memory = scan.Disk(r.node(), r.counted(r.medium)), r.areas, inventory.Memory{Total: quantity.GiB, Available: quantity.GiB}
	v.Uses = append([]inventory.Use{{Node: "sda1", How: inventory.Mounted, Where: "/", Kind: "ext4"}}, r.mounts...)
	for _, a := range r.areas {
		if a.Node != "" {
			v.Uses = append(v.Uses, inventory.Use{Node: a.Node, How: inventory.SwapOn, Priority: a.Priority})
		}
	}
	if r.looks != nil {
		r.looks.inventories++
	}
	if r.files {
		return v, files.Read(v, r)
	}
	return v, nil
}

func (r *rig) Open(context.Context, string) (block.Device, error) {
	return block.NewSlice(r.counted(r.medium), 0, r.medium.Size())
}

func (r *rig) ReadFile(path string) (machine.FileState, error) {
	at, err := machine.Below(r.root, path)
	if err != nil {
		return machine.FileState{}, err
	}
	return machine.ReadFileState(at.Full)
}

func (r *rig) Place(path string) (machine.Place, error) {
	at, err := machine.Below(r.root, path)
	return at.Known(r.root), err
}

func (r *rig) List(path string) ([]string, error) {
	return files.ListDir(filepath.Join(r.root, path))
}

func (r *rig) Claim(_ context.Context, _ *inventory.Inventory, targets []machine.Target) (*machine.Claim, error) {
	if r.faulty == nil {
		r.faulty = block.NewFaulty(r.medium, r.fault)
	}
	var dev block.Device = r.faulty
	if r.recorder != nil {
		dev = recording{dev, r}
	}
	r.open = map[int]bool{}
	for _, k := range r.known {
		span := extent.Span{Start: uint64(k.Start), Count: uint64(k.Size)}
		r.open[k.Number] = slices.ContainsFunc(targets, func(t machine.Target) bool { return t.Takes("sdb", span) })
	}
	return machine.NewClaim(map[string]block.Device{"sdb": claimed{dev, r}}, func() { r.open = nil }), nil
}

// claimed is the disk as a claim has it: with the nodes of partitions, as on a live machine.
type claimed struct {
	block.Device
	rig *rig
}

func (c claimed) TakeUp(a machine.Action) error { c.rig.open[a.Number] = true; return nil }

func (c claimed) LetGoOfPartitions() error { clear(c.rig.open); return nil }

func (r *rig) Do(_ context.Context, _ *inventory.Inventory, a machine.Action) error {
	if a.Verb == machine.RemovePartition && r.open[a.Number] {
		return &machine.Refusal{Rule: machine.RulePartitionUse, Thing: "sdb", Text: fmt.Sprintf("partition %d is open", a.Number)}
	}
	switch a.Verb {
	case machine.Discard:
		return r.discard(a)
	case machine.Mount:
		r.mounts = []inventory.Use{{Node: a.Device, How: inventory.Mounted, Where: a.Where, Kind: a.Kind}}
		return nil
	case machine.Unmount:
		r.mounts = nil
		return nil
	case machine.Relabel:
		return r.relabel(a)
	case machine.SwapOn:
		r.areas = append(slices.Clone(r.areas), r.area(a))
		return nil
	case machine.SwapOff:
		r.areas = slices.DeleteFunc(slices.Clone(r.areas), func(o inventory.Area) bool { return o.Path == r.area(a).Path })
		return nil
	}
	r.known = slices.DeleteFunc(slices.Clone(r.known), func(k inventory.KernelPart) bool { return k.Number == a.Number })
	if a.Verb != machine.RemovePartition {
		r.known = append(r.known, inventory.KernelPart{Number: a.Number, Start: a.Start, Size: a.Size})
	}
	return nil
}

// relabel is the kernel's call for a label, which it writes to the superblock.
func (r *rig) relabel(a machine.Action) error {
	v, err := r.Inventory(context.Background())
	if err != nil {
		return err
	}
	n, _ := v.Node(a.Device)
	c, _ := n.Content()
	k, _ := kind.Of(c)
	part, err := block.NewSlice(r.medium, int64(n.Start), int64(n.Size))
	if err != nil {
		return err
	}
	return k.SetLabel(part, a.Label)
}

// area is what the action turns on or off.
func (r *rig) area(a machine.Action) inventory.Area {
	if a.Device == "" {
		return inventory.Area{Path: a.Where, File: true}
	}
	return inventory.Area{Path: "/dev/" + a.Device, Node: a.Device, Priority: machine.SwappedOn(a).Priority}
}

// discard lets the bytes read as anything, as a device may.
func (r *rig) discard(a machine.Action) error {
	claim, err := r.Claim(context.Background(), nil, nil)
	if err != nil {
		return err
	}
	dev, err := claim.Device("sdb")
	if err != nil {
		return err
	}
	v, err := r.Inventory(context.Background())
	if err != nil {
		return err
	}
	n, _ := v.Node(a.Device)
	for _, s := range a.Spans {
		if _, err := dev.WriteAt(bytes.Repeat([]byte{discarded}, int(s.Count)), int64(n.Start)+int64(s.Start)); err != nil {
			return err
		}
	}
	return dev.Sync()
}

// discarded is what stands where the rig discarded.
const discarded = 0xA5

func (r *rig) Holds(_ context.Context, a machine.Action) (bool, error) {
	if a.Verb == machine.SwapOn || a.Verb == machine.SwapOff {
		on := slices.ContainsFunc(r.areas, func(o inventory.Area) bool { return o.Path == r.area(a).Path })
		return on == (a.Verb == machine.SwapOn), nil
	}
	if a.Verb == machine.Mount || a.Verb == machine.Unmount || a.Reads() {
		v, err := r.Inventory(context.Background())
		return machine.Holds(v, a), err
	}
	has := slices.Contains(r.known, inventory.KernelPart{Number: a.Number, Start: a.Start, Size: a.Size})
	return has == (a.Verb != machine.RemovePartition), nil
}

// commit carries a request out; the store is a new one in the directory.
func (r *rig) commit(store *deed.Store, request task.Request) (*deed.Deed, error) {
	return r.commitWith(store, request, [32]byte{9, byte(len(r.known))}) // the same each time, and another for the next partition
}

var errNothing = errors.New("nothing to do")

func (r *rig) commitWith(store *deed.Store, request task.Request, seed [32]byte) (*deed.Deed, error) {
	return r.commitSet(task.Conditions{Machine: r, Store: store, Clock: clock, Seed: seed}, request)
}

func (r *rig) commitSet(s task.Conditions, request task.Request) (*deed.Deed, error) {
	plan, err := task.Plan(context.Background(), s, request)
	if err != nil {
		return nil, err
	}
	defer plan.Close()
	if plan.Draft.Empty() {
		return nil, errNothing
	}
	c := deed.Commit{Store: s.Store, Machine: r, Reviewed: &plan.Draft, Seen: plan.Seen, Plan: func(ctx context.Context) (*draft.Plan, error) { return task.Again(ctx, s, request) }}
	return c.Run(context.Background())
}

// recover brings whatever is unfinished to an end.
func (r *rig) recover(store *deed.Store, way deed.Direction) error {
	list, err := store.Unfinished()
	if err != nil {
		return err
	}
	for _, d := range list {
		rec := deed.Recover{Store: store, Machine: r, Direction: way}
		if _, err := rec.Run(context.Background(), d); err != nil {
			return err
		}
	}
	return nil
}

func storeIn(t testing.TB) *deed.Store {
	t.Helper()
	return deed.NewStore(memoryDir(t), func() time.Time { return clock })
}

// sight is what Linux would make of the medium: a line for each device, with
// its place in the table and the one thing that it is taken for.
type sight struct {
	lines  []string // of devices that are not fenced
	fenced []string // of those that are, without their contents
	mixed  string   // a fenced device on which something else is believed too
}

func (s sight) String() string { return strings.Join(append(s.lines, s.fenced...), "\n") }

func seen(r *rig) sight {
	var s sight
	for _, n := range scan.Disk(r.node(), r.medium) {
		line := n.Name
		if n.Table != nil {
			line += " " + string(n.Table.Scheme) + " " + n.Table.ID
		}
		if n.Number > 0 {
			line += fmt.Sprintf(" %v %s %s %s", n.Entry.Span, n.Entry.UUID, n.Entry.Type, n.Entry.Name)
		}
		bare, fenced, others := line, false, ""
		for _, c := range n.Contents {
			switch c.Class {
			case fs.Fence:
				fenced = true
			case fs.Table:
			default:
				others += fmt.Sprintf(" %s/%s/%s/%s", c.Kind, c.Label, c.UUID, c.State)
				if !c.CheckBy.IsZero() {
					others += " by " + c.CheckBy.String()
				}
			}
		}
		if !fenced {
			s.lines = append(s.lines, line+others)
			continue
		}
		s.fenced = append(s.fenced, bare)
		if others != "" {
			s.mixed += n.Name + others
		}
	}
	return s
}

// same compares the media byte by byte where either holds data.
func same(a, b *rig) error {
	for off := int64(0); off < a.medium.Size(); {
		_, endA, holeA, errA := a.medium.Next(off)
		_, endB, holeB, errB := b.medium.Next(off)
		if err := errors.Join(errA, errB); err != nil {
			return err
		}
		end := min(endA, endB, off+1<<20)
		if holeA && holeB {
			off = min(endA, endB)
			continue
		}
		x, errX := block.ReadSized(a.medium, off, end-off, 1<<20)
		y, errY := block.ReadSized(b.medium, off, end-off, 1<<20)
		if err := errors.Join(errX, errY); err != nil {
			return err
		}
		if !bytes.Equal(x, y) {
			return fmt.Errorf("bytes %d to %d differ", off, end)
		}
		off = end
	}
	return nil
}
