// Package stage is a machine as it would be after the steps so far. A task
// takes a Stage, changes it, and so appends steps; the next task sees the
// result. Survey, verify and rehearse run on a Stage as on the machine.
//
// Each step that writes puts a layer over its device, and the next one sees the device
// through that. The phases of a layer become the strokes of the deed.
package stage

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"fundus/core/block"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/mountopt"
	"fundus/core/quantity"
	"fundus/core/scan"
	"fundus/core/text/fstab"
	"fundus/core/units"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/machine/files"
	"fundus/internal/oscall"
)

// Stage is the machine with the steps so far.
type Stage struct {
	base     machine.Reader
	spill    block.Spill
	original *inventory.Inventory
	now      *inventory.Inventory // as it would be after the steps so far
	apart    map[string][]int     // partitions of a disk of which the kernel and the table said different things before
	disks    map[string]*disk
	files    map[string]*draft.FileChange
	table    *fstab.File     // that is being set, as it was read already
	made     map[string]bool // large files: whether they would be there
	steps    []draft.Step
	InPlace  bool // files that nothing can be renamed over are written over where they lie
}

// disk is a device with the layers that steps put over it.
type disk struct {
	dev    block.Device
	layers []layer
	seen   int // layers that are in now
}

// Layer is what one step makes of a device: the device as it would be, and what brings that about.
type Layer interface {
	Device() block.Device
	// Strokes carry the step out, in order. The block is what sectors are fenced with.
	Strokes(step int, fence []byte) []draft.Stroke
	Close() error
}

// layer is one of a disk's, with the number of its step.
type layer struct {
	step int
	Layer
}

// top is the device as it would be.
func (d *disk) top() block.Device {
	if n := len(d.layers); n > 0 {
		return d.layers[n-1].Device()
	}
	return d.dev
}

var _ machine.Reader = (*Stage)(nil)

// New puts a stage over the machine as a look that was just taken has it.
func New(base machine.Reader, v *inventory.Inventory, spill block.Spill) *Stage {
	spill.Held = new(int64) // of all layers together
	s := &Stage{
		base:     base,
		spill:    spill,
		original: v,
		now:      v,
		apart:    map[string][]int{},
		disks:    map[string]*disk{},
		files:    map[string]*draft.FileChange{},
		made:     map[string]bool{},
	}
	for _, d := range v.Disks() {
		for _, k := range d.Kernel {
			agreed := slices.ContainsFunc(v.Parts(d.Name), func(n inventory.Node) bool { return n.Number == k.Number && n.InKernel })
			if !agreed {
				s.apart[d.Name] = append(s.apart[d.Name], k.Number)
			}
		}
	}
	return s
}

// Close drops the overlays.
func (s *Stage) Close() {
	for _, d := range s.disks {
		for _, l := range d.layers {
			l.Close()
		}
		d.dev.Close()
	}
}

// Before is the machine as it is. It is for whoever compares; a task plans against Now.
func (s *Stage) Before() *inventory.Inventory { return s.original }

// Steps lists what was appended so far.
func (s *Stage) Steps() []draft.Step { return s.steps }

func (s *Stage) disk(ctx context.Context, name string) (*disk, error) {
	if d, ok := s.disks[name]; ok {
		return d, nil
	}
	dev, err := s.base.Open(ctx, name)
	if err != nil {
		return nil, err
	}
	d := &disk{dev: dev}
	s.disks[name] = d
	return d, nil
}

// Open gives the disk as it would be, for looking at: what changes it is Write.
func (s *Stage) Open(ctx context.Context, name string) (block.Device, error) {
	d, err := s.disk(ctx, name)
	if err != nil {
		return nil, err
	}
	return block.ReadOnly(d.top()), nil
}

// Inventory is Now: a Stage is a Reader like the machine below.
func (s *Stage) Inventory(ctx context.Context) (*inventory.Inventory, error) { return s.Now(ctx) }

// Now is the machine as it would be after the steps so far. A disk is looked at once
// for each time that it was written; everything else is brought about in plain data.
func (s *Stage) Now(ctx context.Context) (*inventory.Inventory, error) {
	for _, name := range slices.Sorted(maps.Keys(s.disks)) {
		if d := s.disks[name]; d.seen < len(d.layers) {
			d.seen = len(d.layers)
			s.rescan(name, d.top())
		}
	}
	return s.now, ctx.Err()
}

// change gives a copy of the present look that the stage may write to, and makes it the
// present one: whoever holds the former one keeps it.
func (s *Stage) change() *inventory.Inventory {
	v := *s.now
	s.now = &v
	return s.now
}

// rescan looks anew at a disk that was written.
func (s *Stage) rescan(name string, dev block.Device) {
	v := s.change()
	var nodes []inventory.Node
	for _, n := range v.Disks() {
		family := v.Family(n.Name)
		if n.Name != name {
			nodes = append(nodes, family...)
			continue
		}
		n.Contents, n.Table, n.TableBad, n.Problem = nil, nil, nil, ""
		if n.Form == inventory.Image {
			n.Geometry = scan.ImageGeometry(dev, dev.Size())
			dev = block.Regard(dev, n.Geometry)
		}
		found := scan.Disk(n, dev)
		for i := range found[1:] { // what leads to a partition that stays leads there still
			p := &found[1+i]
			if at := slices.IndexFunc(family, func(o inventory.Node) bool { return o.Name == p.Name && o.Start == p.Start && o.Size == p.Size }); at >= 0 {
				p.Links = family[at].Links
			}
		}
		nodes = append(nodes, found...)
	}
	v.Nodes = nodes
}

// Over appends a step that puts a layer over the disk as it would be by then. Without a body there
// is nothing to do, and neither is there a layer.
func (s *Stage) Over(ctx context.Context, title, name string, put func(under block.Device) (draft.Body, Layer, error)) error {
	if err := s.opaque(name); err != nil {
		return err
	}
	d, err := s.disk(ctx, name)
	if err != nil {
		return err
	}
	body, over, err := put(d.top())
	if err == nil && body != nil {
		d.layers = append(d.layers, layer{len(s.steps), over})
		s.add(title, body)
	}
	return errors.Join(err, ctx.Err())
}

// ErrOpaque says that a draft writes to a device and to what that is built on, of which nobody
// knows where on it the bytes of the one lie.
var ErrOpaque = errors.New("a draft writes to one of them alone")

// opaque refuses to write to a device where the draft writes to what it is built on already, or to
// what is built on it: the layers of both would say different things of the same bytes.
func (s *Stage) opaque(name string) error {
	n, _ := s.now.Node(name)
	for _, other := range slices.Sorted(maps.Keys(s.disks)) {
		o, _ := s.now.Node(other)
		on := func(a, b inventory.Node) bool {
			return slices.ContainsFunc(s.now.Below(a), func(u inventory.Node) bool { return u.Name == b.Name })
		}
		if len(s.disks[other].layers) > 0 && (on(n, o) || on(o, n)) {
			return fmt.Errorf("%s and %s: the one is built on the other, and %w; commit what is drafted on %s first",
				name, other, ErrOpaque, other)
		}
	}
	return nil
}

// Write runs the function on the span of the disk and appends the step. What
// it writes to content is fenced where it is more than one sector.
func (s *Stage) Write(ctx context.Context, title string, t machine.Target, fn func(dev block.Device) error) error {
	return s.Over(ctx, title, t.Device, func(under block.Device) (draft.Body, Layer, error) {
		w, o, err := s.written(under, t, fn)
		if w == nil || err != nil {
			return nil, nil, err
		}
		return w, &written{o, *w}, nil
	})
}

// written is the writing that the function does; nil where it writes nothing.
func (s *Stage) written(under block.Device, t machine.Target, fn func(dev block.Device) error) (*draft.Writing, *block.Overlay, error) {
	o := block.NewOverlay(under, s.spill)
	part, err := block.NewSlice(o, int64(t.Start), int64(t.Size))
	if err != nil {
		return nil, nil, err
	}
	before, err := kind.Probe(part)
	if err == nil {
		err = errors.Join(fn(part), o.Sync())
	}
	if err != nil || o.Phases() == 0 {
		return nil, nil, errors.Join(err, o.Close())
	}
	w := &draft.Writing{Target: t, Phases: o.Phases()}
	for i := range o.Phases() {
		for _, e := range o.Phase(i) {
			w.Bytes += quantity.Bytes(e.Len)
		}
	}
	if sector := o.Geometry().Logical; t.Hold != machine.HoldTable && int64(w.Bytes) > sector {
		after, err := kind.Probe(part)
		if err != nil {
			return nil, nil, errors.Join(err, o.Close())
		}
		w.Fence = fenceFor(before, after, int64(t.Start), sector, changedIn(o))
		w.Before = beforeFence(o, w.Fence, before, after, t.Start)
	}
	return w, o, nil
}

// Locked says who else has the disk locked.
func (s *Stage) Locked(disk string) string { return s.base.Locked(disk) }

// Opened lists the disks that were opened so far.
func (s *Stage) Opened() []string { return slices.Sorted(maps.Keys(s.disks)) }

// TryOptions asks the running kernel.
func (s *Stage) TryOptions(typ string, options []string) mountopt.Answers {
	return machine.TryOptions(s.base, typ, options)
}

// ReadFile gives a text file as it would be.
func (s *Stage) ReadFile(p string) (machine.FileState, error) {
	if change, ok := s.files[p]; ok {
		return change.After, nil
	}
	return s.base.ReadFile(p)
}

// Place says where a text file lies.
func (s *Stage) Place(p string) (machine.Place, error) {
	at, err := s.base.Place(p)
	if there, made := s.made[p]; made {
		at.There = there
	}
	at.Mounted = at.Mounted && (mountedAt(s.now, p) || !mountedAt(s.original, p))
	return at, err
}

// mountedAt reports whether something is mounted at the path, of a device or not.
func mountedAt(v *inventory.Inventory, p string) bool {
	_, device := v.MountedAt(p)
	_, other := v.OtherAt(p)
	return device || other
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
		is := map[bool]string{true: "a directory", false: "a file"}
		return fmt.Errorf("%s is %s, and %s is wanted: move it away first", p, is[before.Dir], is[after.Dir])
	}
	at, err := s.Place(p)
	if err != nil {
		return err
	}
	if r := at.Refuse(p, s.InPlace); r != nil {
		return r
	}
	change := &draft.FileChange{Path: p, Before: before, After: after, Over: at.Mounted && !before.Missing}
	if len(at.Links) > 0 {
		change.To = at.Path
	}
	s.files[p] = change
	if err := s.changed(p, after); err != nil {
		return err
	}
	s.add(title, change)
	return nil
}

// Amend has the change of the file just before, if there is one, end with other data: that
// step alone brings both about, and what lies between them never is. It reports whether there
// was one.
func (s *Stage) Amend(p string, data []byte) (bool, error) {
	for _, step := range slices.Backward(s.steps) {
		c, file := step.Body.(*draft.FileChange)
		a, action := step.Body.(*draft.Acting)
		switch {
		case file && c.Path == p && !c.Before.Same(machine.FileState{Data: data, Attributes: c.After.Attributes}):
			c.After.Data = data
			return true, s.changed(p, c.After)
		case !action || a.Verb != machine.ReloadUnits:
			return false, nil
		}
	}
	return false, nil
}

// Add appends a step that changes nothing of what the stage shows.
func (s *Stage) Add(title string, body draft.Body) { s.add(title, body) }

func (s *Stage) add(title string, body draft.Body) {
	s.steps = append(s.steps, draft.Step{Title: title, Body: body})
}

// Make appends a step that makes a large file, or takes it away again.
func (s *Stage) Make(title string, m *draft.Making) {
	s.made[m.Path] = !m.Remove
	s.add(title, m)
}

// Link appends a step that makes a symbolic link, or takes one away that leads there.
func (s *Stage) Link(title, p, to string, remove bool) {
	s.add(title, &draft.Linking{Path: p, To: to, Remove: remove})
	e := &units.Entry{To: to}
	if remove {
		e = nil
	}
	files.WithUnit(s.change(), p, e)
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

// changed brings a file or a directory about in the present look, and looks whether the
// mount points that fstab names now are there.
func (s *Stage) changed(p string, after machine.FileState) error {
	v := s.change()
	v.Files, v.Dirs, v.Leads, v.Sources = maps.Clone(v.Files), maps.Clone(v.Dirs), maps.Clone(v.Leads), maps.Clone(v.Sources)
	switch {
	case after.Dir:
		v.Dirs[p] = true
		return nil
	case after.Missing:
		if _, named := v.Dirs[p]; named {
			v.Dirs[p] = false
		}
	}
	v.Files[p] = inventory.File{Data: after.Data, Missing: after.Missing}
	if s.table != nil && p == fstab.Path {
		v.Knows(s.table)
	}
	if after.Missing {
		files.WithUnit(v, p, nil)
	} else {
		files.WithUnit(v, p, &units.Entry{Data: after.Data})
	}
	return files.LookAtPlaces(v, s)
}

// Tell appends the actions in order, each unless the machine as it would be then
// refuses it.
func (s *Stage) Tell(ctx context.Context, list ...machine.Action) error {
	if _, err := s.Now(ctx); err != nil {
		return err
	}
	for _, a := range list {
		v := s.change()
		for _, dir := range a.Dirs() {
			if _, known := v.Dirs[dir]; known {
				continue
			}
			there := v.Awaits(dir) // a look would be the first access
			if !there {
				state, err := s.ReadFile(dir)
				if err != nil {
					return err
				}
				there = state.Dir
			}
			v.Dirs = maps.Clone(v.Dirs)
			v.Dirs[dir] = there
		}
		machine.AskAbout(v, s.base, a)
		if err := machine.CheckAction(v, a); err != nil {
			return err
		}
		machine.Effect(v, a)
		s.add(a.String(), &draft.Acting{Action: a})
	}
	return nil
}

// TellOnce appends an action that nothing takes back: once it has begun, neither is what
// stands before it taken back.
func (s *Stage) TellOnce(ctx context.Context, a machine.Action) error {
	if err := s.Tell(ctx, a); err != nil {
		return err
	}
	s.steps[len(s.steps)-1].NoWayBack = true
	return nil
}

// TellKernel appends what makes the kernel's partitions those of the disk's
// table as it would be. Images have no partitions in the kernel. Partitions of which
// kernel and table said different things before are for rescan.
func (s *Stage) TellKernel(ctx context.Context, name string) error {
	v, err := s.Now(ctx)
	if err != nil {
		return err
	}
	list := machine.Catchup(v, name)
	list = slices.DeleteFunc(list, func(a machine.Action) bool {
		return a.Verb != machine.AddPartition && slices.Contains(s.apart[name], a.Number)
	})
	return s.Tell(ctx, list...)
}

// LineChanges shows the text files that change, by lines: each as it is before the first step that
// changes it, and after the last.
func (s *Stage) LineChanges() (out []draft.LineChange) {
	var all []draft.FileChange
	for _, step := range s.steps {
		c, file := step.Body.(*draft.FileChange)
		if !file || c.After.Dir || c.Before.Dir {
			continue
		}
		if i := slices.IndexFunc(all, func(o draft.FileChange) bool { return o.Path == c.Path }); i >= 0 {
			all[i].After = c.After
			continue
		}
		all = append(all, *c)
	}
	for _, c := range all {
		out = append(out, lineChange(c))
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

// SetFstab replaces the table of file systems.
func (s *Stage) SetFstab(title string, table *fstab.File) error {
	s.table = table
	defer func() { s.table = nil }()
	return s.SetFile(title, fstab.Path, table.Bytes())
}

// Fstab is the table of file systems as it would be, for whoever changes it.
func (s *Stage) Fstab() *fstab.File {
	if _, read := s.now.Files[fstab.Path]; read {
		return s.now.Fstab().Clone()
	}
	state, err := s.ReadFile(fstab.Path)
	if err != nil {
		return &fstab.File{}
	}
	return fstab.Parse(state.Data)
}

// FstabEntry finds the entry for a mount point, as it would be.
func FstabEntry(v *inventory.Inventory, dir string) (fstab.Entry, int, bool) {
	for _, u := range v.Units() {
		if u.None == "" && u.Where == fstab.FromRoot(dir) {
			return u.Entry, u.Line, true
		}
	}
	return fstab.Entry{}, 0, false
}
