// Package stage is a machine as it would be after the steps so far. A task
// takes a Stage, changes it, and so appends steps; the next task sees the
// result. Survey, verify and rehearse run on a Stage as on the machine.
//
// Each disk that is written has one overlay, and its partitions are slices of
// that. The phases of the overlay become the units of the deed.
package stage

import (
	"context"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"fundus/core/block"
	"fundus/core/fstab"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/quantity"
	"fundus/core/scan"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/oscall"
)

// Stage is the machine with the steps so far.
type Stage struct {
	base     machine.Reader
	spill    block.Spill
	original *inventory.Inventory
	disks    map[string]*disk
	files    map[string]*draft.FileChange
	steps    []draft.Step
}

type disk struct {
	dev     block.Device
	overlay *block.Overlay
}

var _ machine.Reader = (*Stage)(nil)

// New puts a stage over the machine.
func New(ctx context.Context, base machine.Reader, spill block.Spill) (*Stage, error) {
	v, err := base.Inventory(ctx)
	if err != nil {
		return nil, err
	}
	return &Stage{base: base, spill: spill, original: v, disks: map[string]*disk{}, files: map[string]*draft.FileChange{}}, nil
}

// Close drops the overlays.
func (s *Stage) Close() {
	for _, d := range s.disks {
		d.overlay.Close()
		d.dev.Close()
	}
}

// Before is the machine as it is.
func (s *Stage) Before() *inventory.Inventory { return s.original }

// Steps lists what was appended so far.
func (s *Stage) Steps() []draft.Step { return s.steps }

// Overlay is the overlay of a whole disk.
func (s *Stage) Overlay(ctx context.Context, name string) (*block.Overlay, error) {
	if d, ok := s.disks[name]; ok {
		return d.overlay, nil
	}
	dev, err := s.base.Open(ctx, name)
	if err != nil {
		return nil, err
	}
	d := &disk{dev, block.NewOverlay(dev, s.spill)}
	s.disks[name] = d
	return d.overlay, nil
}

// Open gives the disk as it would be.
func (s *Stage) Open(ctx context.Context, name string) (block.Device, error) {
	o, err := s.Overlay(ctx, name)
	if err != nil {
		return nil, err
	}
	return block.NewSlice(o, 0, o.Size())
}

// Inventory is the machine as it would be.
func (s *Stage) Inventory(ctx context.Context) (*inventory.Inventory, error) {
	v := *s.original
	v.Nodes = nil
	for _, n := range s.original.Disks() {
		if d, ok := s.disks[n.Name]; ok && d.overlay.Phases() > 0 {
			bare := n
			bare.Contents, bare.Table, bare.TableBad, bare.Problem = nil, nil, nil, ""
			v.Nodes = append(v.Nodes, scan.Disk(bare, d.overlay)...)
			continue
		}
		v.Nodes = append(v.Nodes, s.original.Family(n.Name)...)
	}
	v.Uses = slices.Clone(v.Uses)
	v.Files, v.Dirs = maps.Clone(v.Files), maps.Clone(v.Dirs)
	for _, change := range s.files {
		if change.After.Dir {
			v.Dirs[change.Path] = true
			continue
		}
		v.Files[change.Path] = inventory.File{Data: change.After.Data, Missing: change.After.Missing}
	}
	for _, line := range v.Fstab().Entries() {
		if _, looked := v.Dirs[line.Entry.Dir]; !looked {
			state, err := s.base.ReadFile(line.Entry.Dir)
			v.Dirs[line.Entry.Dir] = err == nil && state.Dir
		}
	}
	for _, step := range s.steps {
		if step.Kind == draft.Act {
			apply(&v, *step.Action)
		}
	}
	return &v, ctx.Err()
}

// apply brings about in plain data what the action does.
func apply(v *inventory.Inventory, a machine.Action) {
	switch a.Verb {
	case machine.AddPartition, machine.RemovePartition, machine.ResizePartition:
		v.Nodes = slices.Clone(v.Nodes)
		tell(v.Nodes, a)
	case machine.Mount:
		v.Uses = append(v.Uses, inventory.Use{Node: a.Node, How: inventory.Mounted, Where: a.Where, Kind: a.Kind, Options: a.Options})
	case machine.Unmount:
		v.Uses = slices.DeleteFunc(v.Uses, func(u inventory.Use) bool { return u.How == inventory.Mounted && u.Where == a.Where })
	case machine.SwapOn:
		v.Uses = append(v.Uses, inventory.Use{Node: a.Node, How: inventory.SwapOn})
	case machine.SwapOff:
		v.Uses = slices.DeleteFunc(v.Uses, func(u inventory.Use) bool { return u.How == inventory.SwapOn && u.Node == a.Node })
	}
}

// tell changes what the kernel takes for the partitions of the disk.
func tell(nodes []inventory.Node, a machine.Action) {
	var known []inventory.KernelPart
	for i := range nodes {
		switch n := &nodes[i]; {
		case n.Name == a.Disk:
			known = slices.DeleteFunc(slices.Clone(n.Kernel), func(k inventory.KernelPart) bool { return k.Number == a.Number })
			if a.Verb != machine.RemovePartition {
				known = append(known, inventory.KernelPart{Number: a.Number, Start: a.Start, Size: a.Size})
			}
			n.Kernel = known
		case n.Parent == a.Disk:
			n.InKernel = slices.Contains(known, n.InKernelAs())
		}
	}
}

// Write runs the function on the span of the disk and appends the step. What
// it writes to content is fenced where it is more than one sector.
func (s *Stage) Write(ctx context.Context, title string, t machine.Target, fn func(dev block.Device) error) error {
	o, err := s.Overlay(ctx, t.Disk)
	if err != nil {
		return err
	}
	part, err := block.NewSlice(o, int64(t.Start), int64(t.Size))
	if err != nil {
		return err
	}
	before, err := kind.Probe(part)
	if err != nil {
		return err
	}
	first := o.Phases()
	if err := fn(part); err != nil {
		return err
	}
	if err := o.Sync(); err != nil {
		return err
	}
	last := o.Phases()
	if first == last {
		return ctx.Err()
	}
	step := draft.Step{Kind: draft.Write, Title: title, Disk: t.Disk, Target: &t, Phases: [2]int{first, last}, Content: t.Content}
	for i := first; i < last; i++ {
		for _, e := range o.Phase(i) {
			step.Bytes += quantity.Bytes(e.Len)
		}
	}
	if sector := o.Geometry().Logical; t.Content && int64(step.Bytes) > sector {
		after, err := kind.Probe(part)
		if err != nil {
			return err
		}
		step.Fence = fenceFor(before, after, int64(t.Start), sector, changedIn(o, first, last))
	}
	s.steps = append(s.steps, step)
	return ctx.Err()
}

// ReadFile gives a text file as it would be.
func (s *Stage) ReadFile(p string) (machine.FileState, error) {
	if change, ok := s.files[p]; ok {
		return change.After, nil
	}
	return s.base.ReadFile(p)
}

// List names the files of a directory as they would be.
func (s *Stage) List(dir string) ([]string, error) {
	names, err := s.base.List(dir)
	for p, change := range s.files {
		if path.Dir(p) != dir || change.After.Dir {
			continue
		}
		names = slices.DeleteFunc(names, func(n string) bool { return n == path.Base(p) })
		if !change.After.Missing {
			names = append(names, path.Base(p))
		}
	}
	slices.Sort(names)
	return names, err
}

// SetFile replaces a text file and keeps its owner and mode; a new one is the
// caller's with mode 0644.
func (s *Stage) SetFile(title, p string, data []byte) error {
	now, err := s.ReadFile(p)
	if err != nil {
		return err
	}
	after := machine.FileState{Data: data, Attributes: now.Attributes}
	if now.Missing {
		after.Attributes = oscall.Attributes{Mode: 0o644}
	}
	return s.PutFile(title, p, now, after)
}

// PutFile brings a file from one state to another; nothing happens where they
// are the same.
func (s *Stage) PutFile(title, p string, before, after machine.FileState) error {
	if before.Same(after) {
		return nil
	}
	if before.Dir != after.Dir && !before.Missing && !after.Missing {
		return fmt.Errorf("%s: %w", p, fs.ErrExist)
	}
	change := &draft.FileChange{Path: p, Before: before, After: after}
	s.files[p] = change
	s.steps = append(s.steps, draft.Step{Kind: draft.File, Title: title, File: change})
	return nil
}

// MakeDir makes the directory and its missing parents with mode 0755.
func (s *Stage) MakeDir(p string) error {
	var missing []string
	for at := path.Clean(p); at != "/" && at != "."; at = path.Dir(at) {
		state, err := s.ReadFile(at)
		if err != nil {
			return err
		}
		if state.Dir {
			break
		}
		if !state.Missing {
			return fmt.Errorf("%s is a file, not a directory; choose another mount point", at)
		}
		missing = append(missing, at)
	}
	for _, at := range slices.Backward(missing) {
		after := machine.FileState{Dir: true, Attributes: oscall.Attributes{Mode: 0o755}}
		if err := s.PutFile("make directory "+at, at, machine.FileState{Missing: true}, after); err != nil {
			return err
		}
	}
	return nil
}

// Act appends an action, unless the machine as it would be refuses it.
func (s *Stage) Act(ctx context.Context, a machine.Action) error {
	v, err := s.Inventory(ctx)
	if err != nil {
		return err
	}
	if _, known := v.Dirs[a.Where]; a.Verb == machine.Mount && !known {
		state, err := s.ReadFile(a.Where)
		if err != nil {
			return err
		}
		v.Dirs[a.Where] = state.Dir
	}
	if err := machine.CheckAction(v, a); err != nil {
		return err
	}
	s.steps = append(s.steps, draft.Step{Kind: draft.Act, Title: a.String(), Action: &a})
	return nil
}

// TellKernel appends what makes the kernel's partitions those of the disk's
// table as it would be. Images have no partitions in the kernel.
func (s *Stage) TellKernel(ctx context.Context, name string) error {
	v, err := s.Inventory(ctx)
	if err != nil {
		return err
	}
	agreed := map[int]bool{} // what the kernel has and the table had: the rest is for rescan
	for _, n := range s.original.Parts(name) {
		agreed[n.Number] = n.InKernel
	}
	for _, a := range machine.Catchup(v, name) {
		if a.Verb != machine.AddPartition && !agreed[a.Number] {
			continue
		}
		if err := s.Act(ctx, a); err != nil {
			return err
		}
	}
	return nil
}

// LineChanges shows the text files that change, by lines.
func (s *Stage) LineChanges() []draft.LineChange {
	var out []draft.LineChange
	for _, step := range s.steps {
		if step.Kind != draft.File || step.File.After.Dir || step.File.Before.Dir {
			continue
		}
		out = append(out, lineChange(*step.File))
	}
	return out
}

// differing gives the lines that are not the same at their place in the other
// list.
func differing(lines, other []string) (out []string) {
	for i, l := range lines {
		if l != other[i] {
			out = append(out, l)
		}
	}
	return out
}

func lineChange(c draft.FileChange) draft.LineChange {
	before, after := strings.SplitAfter(string(c.Before.Data), "\n"), strings.SplitAfter(string(c.After.Data), "\n")
	if len(before) == len(after) { // then lines have their places
		before, after = differing(before, after), differing(after, before)
	}
	for len(before) > 0 && len(after) > 0 && before[0] == after[0] {
		before, after = before[1:], after[1:]
	}
	for len(before) > 0 && len(after) > 0 && before[len(before)-1] == after[len(after)-1] {
		before, after = before[:len(before)-1], after[:len(after)-1]
	}
	clean := func(lines []string) []string {
		var out []string
		for _, l := range lines {
			if l = strings.TrimRight(l, "\n"); l != "" {
				out = append(out, l)
			}
		}
		return out
	}
	return draft.LineChange{Path: c.Path, Removed: clean(before), Added: clean(after)}
}

// FstabEntry finds the entry for a mount point, as it would be.
func FstabEntry(v *inventory.Inventory, dir string) (fstab.Entry, int, bool) {
	for _, l := range v.Fstab().Entries() {
		if l.Entry.Dir == dir {
			return *l.Entry, l.Number, true
		}
	}
	return fstab.Entry{}, 0, false
}
