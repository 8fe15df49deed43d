package past

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/memory"
	"fundus/core/text/fstab"
	"fundus/core/text/merge"
	"fundus/core/units"
	"fundus/internal/deed"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/task"
)

// Undo takes a finished deed back: it restores the bytes and files from before,
// unless somebody wrote there since.
type Undo struct {
	Deed string `json:"deed,omitempty"` // default: the newest
	Over bool   `json:"over,omitempty"` // also where something was written since
	// Image is the image file that stands for the deed's, which was renamed or copied.
	Image string `json:"image,omitempty"`
}

// Verb of the request.
func (*Undo) Verb() string { return "undo" }

// Errors of undo.
var (
	ErrSince = errors.New("something was written there since")
)

func (r *Undo) Plan(ctx context.Context, p *task.Planner) error {
	d, err := p.Store.Find(r.Deed)
	if err != nil {
		return err
	}
	all, err := p.Store.List()
	if err != nil {
		return err
	}
	if err := deed.NoWay(all, d); err != nil {
		return err
	}
	if p.Draft.Request, err = task.Encode(&Undo{Deed: d.ID, Over: r.Over, Image: r.Image}); err != nil {
		return err
	}
	p.Undoes = d.ID
	p.Title("undo deed %s: %s", d.ID, d.Title)
	former, err := d.OpenFormer()
	if err != nil {
		return err
	}
	defer former.Close()
	u := &undoing{p: p, deed: d, former: former, over: r.Over}
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	if d.Devices, err = d.Standing(v, r.Image); err != nil {
		return err
	}
	if u.names, err = deed.Names(v, d.Devices); err != nil {
		return err
	}
	if err = d.InRoot(v.Machine.Root); err != nil {
		return err
	}
	for i, s := range slices.Backward(d.Steps) {
		if err := u.step(ctx, i, s); err != nil {
			return err
		}
	}
	for _, t := range d.Written() {
		if err := p.Stage.TellKernel(ctx, u.names[t.Name]); err != nil {
			return err
		}
	}
	if err := p.Stage.Tell(ctx, u.later...); err != nil {
		return err
	}
	p.Excuse(d.Errors...)
	if err := u.losses(ctx, v); err != nil {
		return err
	}
	if slices.ContainsFunc(d.Steps, readBySystemd) {
		if err := p.Reload(ctx); err != nil {
			return err
		}
	}
	if err := p.Stage.Tell(ctx, u.starts...); err != nil {
		return err
	}
	for _, s := range p.Stage.Steps() { // what no table and no text file shows
		switch {
		case s.Kind == draft.Own, s.Kind == draft.Link, s.Kind == draft.Make, s.File != nil && s.File.Before.Dir && s.File.After.Missing:
			p.Facts(fs.Fact{Name: "also", Value: s.Title})
		case s.Action != nil && (s.Action.Verb == machine.Mount || s.Action.Verb == machine.Unmount || s.Action.Verb == machine.Bind):
			p.Facts(fs.Fact{Name: "also", Value: s.Action.String()})
		}
	}
	return nil
}

// readBySystemd reports whether the step changes what systemd has to read again.
func readBySystemd(s draft.Step) bool {
	return s.File != nil && (s.File.Path == fstab.Path || strings.HasPrefix(s.File.Path, units.Dirs()[0]+"/"))
}

// losses names what goes out of sight though the deed did not make it: file systems that a
// table which was rebuilt had brought back are lost again with the table of before.
func (u *undoing) losses(ctx context.Context, before *inventory.Inventory) error {
	after, err := u.p.Now(ctx)
	if err != nil {
		return err
	}
	for _, d := range u.deed.Written() {
		disk := u.names[d.Name]
		for _, n := range before.Family(disk) {
			c, ok := n.Content()
			if !ok || c.Class == fs.Fence || u.former.Wrote(d.Name, int64(n.Start)+signature(c)) {
				continue
			}
			stays := slices.ContainsFunc(after.Family(disk), func(o inventory.Node) bool {
				return o.Start == n.Start && slices.ContainsFunc(o.Contents, func(x fs.Content) bool {
					return x.Kind == c.Kind && (x.UUID == c.UUID || x.Label == c.Label && x.Size == c.Size)
				})
			})
			if loss, err := u.p.LossOf(ctx, n); err != nil {
				return err
			} else if !stays && loss != nil {
				u.p.Draft.Losses = append(u.p.Draft.Losses, *loss)
			}
		}
	}
	return nil
}

// signature is a byte that what holds the content is known by, from its beginning.
func signature(c fs.Content) int64 {
	if len(c.Signatures) == 0 {
		return 0
	}
	return int64(c.Signatures[0].Start)
}

// undoing appends the inverse of one step after the other.
type undoing struct {
	p      *task.Planner
	deed   *deed.Deed
	former *deed.Former
	over   bool
	names  map[string]string // device as recorded -> as it is called now
	later  []machine.Action  // once the kernel knows the partitions of before
	starts []machine.Action  // once systemd has read the units of before
}

func (u *undoing) step(ctx context.Context, number int, s draft.Step) error {
	switch s.Kind {
	case draft.Write:
		return u.write(ctx, number, s)
	case draft.File:
		return u.file(ctx, s.File)
	case draft.Make:
		if !s.Make.Remove {
			if err := u.givenUp(ctx, s.Make.Path); err != nil {
				return err
			}
		}
		back := *s.Make
		back.Remove = !back.Remove
		u.p.Stage.Add(draft.Step{Kind: draft.Make, Title: "take back: " + s.Title, Make: &back})
		return nil
	case draft.Own:
		return u.owners(ctx, number, s)
	case draft.Link:
		back := *s.Link
		back.Remove = !back.Remove
		u.p.Stage.Link("take back: "+s.Title, back.Path, back.To, back.Remove)
		return nil
	}
	return u.action(ctx, *s.Action)
}

// owners puts back whose the files were, where nobody gave them away since.
func (u *undoing) owners(ctx context.Context, number int, s draft.Step) error {
	v, err := u.p.Now(ctx)
	if err != nil {
		return err
	}
	back := *s.Own
	back.Undoes, back.Step = u.deed.ID, number
	if now, ok := u.names[back.Node]; ok {
		back.Node = now
	}
	if use, mounted := v.MountedAt(back.Where); !mounted || use.Node != back.Node {
		return &machine.Refusal{Rule: machine.RuleNotMounted, Thing: back.Node, Text: fmt.Sprintf("it is not mounted at %s, and whose its files were cannot be put back", back.Where), Next: fmt.Sprintf("fundus mount %s %s", back.Node, back.Where)}
	}
	u.p.Stage.Add(draft.Step{Kind: draft.Own, Title: "put back whose it was, where nobody changed it since: " + back.Where, Own: &back})
	return nil
}

// givenUp has the kernel give a file up that is swapped on. One that is taken away while it is
// keeps its blocks, and nobody can see why.
func (u *undoing) givenUp(ctx context.Context, file string) error {
	v, err := u.p.Now(ctx)
	if err != nil || !slices.ContainsFunc(v.Areas, func(a inventory.Area) bool { return a.Path == file }) {
		return err
	}
	if sum := memory.GiveUp(v.Memory, v.Areas, file); !sum.Fits() {
		return &machine.Refusal{Rule: machine.RuleMemory, Thing: file, Text: sum.String(), Next: "fundus swap list"}
	}
	return u.p.Stage.Tell(ctx, machine.Action{Verb: machine.SwapOff, Where: file})
}

// write restores the phases of a step in reverse. Its own fences are not
// restored, but the sectors beneath them are.
func (u *undoing) write(ctx context.Context, number int, s draft.Step) error {
	target := s.Write.Target
	target.Disk = u.names[target.Disk]
	dev, err := u.p.Stage.Open(ctx, target.Disk)
	if err != nil {
		return err
	}
	at, err := u.former.Changed(ctx, dev, number)
	if err != nil {
		return err
	}
	if at >= 0 {
		err := u.since(ctx, target, at)
		if !u.over {
			return err
		}
		u.p.Warn("%v; it is written over: fundus verify says afterwards whether all fits", err)
		if err := u.covered(ctx, target); err != nil {
			return err
		}
	}
	return u.p.Write(ctx, "restore: "+s.Title, target, func(dev block.Device) error {
		ended := func() error { return nil } // a fenced step is one whole
		if s.Write.Fence == nil {
			ended = dev.Sync // each phase of a table must stay one
		}
		err := u.former.Back(number, func(off, n int64, data []byte) error { return put(dev, off-int64(target.Start), n, data) }, ended)
		return errors.Join(err, dev.Sync())
	})
}

// covered names what is lost where something was written since: what stands there now, with all
// that it holds, by its own name.
func (u *undoing) covered(ctx context.Context, t machine.Target) error {
	v, err := u.p.Now(ctx)
	if err != nil {
		return err
	}
	some := false
	for _, n := range v.Family(t.Disk) {
		c, ok := n.Content()
		if !ok || c.Class == fs.Table || c.Class == fs.Fence || n.Start >= t.Start+t.Size || t.Start >= n.Start+n.Size {
			continue
		}
		loss, err := u.p.LossOf(ctx, n)
		if err != nil {
			return err
		}
		if loss == nil || slices.ContainsFunc(u.p.Draft.Losses, func(o draft.Loss) bool { return o.Node == loss.Node }) {
			continue
		}
		loss.What += ", with all that was written there since"
		loss.Accept = append(loss.Accept, u.deed.Code, u.deed.ID)
		u.p.Draft.Losses, some = append(u.p.Draft.Losses, *loss), true
	}
	if !some {
		u.p.Draft.Losses = append(u.p.Draft.Losses, draft.Loss{Node: t.Disk, What: "what was written since", Name: u.deed.Code, Accept: []string{u.deed.ID}})
	}
	return nil
}

func put(dev block.Device, off, n int64, data []byte) error {
	if data == nil {
		return dev.WriteZeroes(off, n)
	}
	_, err := dev.WriteAt(data, off)
	return err
}

func (u *undoing) since(ctx context.Context, t machine.Target, at int64) error {
	inside := at - int64(t.Start)
	place := fmt.Sprintf("byte %d of %s", at, t.Disk)
	if t.Start > 0 {
		place = fmt.Sprintf("%s (byte %d of the partition)", place, inside)
	}
	why := ""
	v, err := u.p.Now(ctx)
	if err != nil {
		return err
	}
	for _, n := range v.Family(t.Disk) {
		c, ok := n.Content()
		inside := at - int64(n.Start)
		if ok && inside >= int64(c.Super.Start) && inside < int64(c.Super.End()) {
			why = fmt.Sprintf(", the superblock of the %s on %s: it was mounted for writing", c.Kind, n.Name)
		}
	}
	return fmt.Errorf("deed %s: %w: %s%s; what was written would be lost: --over-later-writes", u.deed.ID, ErrSince, place, why)
}

// vacate unmounts what is mounted at a directory that the deed made and that goes now, where it
// is what the deed's own line names; what somebody else mounted there stays.
func (u *undoing) vacate(ctx context.Context, dir string) error {
	v, err := u.p.Now(ctx)
	if err != nil {
		return err
	}
	use, mounted := v.MountedAt(dir)
	if !mounted {
		return nil
	}
	if !u.lineFor(v, dir, use.Node) {
		return &machine.Refusal{Rule: machine.RuleMounted, Thing: dir, Text: fmt.Sprintf("the deed made it, and %s is mounted there, which the deed did not say", use.Node), Next: "fundus unmount " + dir}
	}
	u.p.Note("%s is unmounted from %s first, which the deed made", use.Node, dir)
	return u.p.Stage.Tell(ctx, machine.Action{Verb: machine.Unmount, Node: use.Node, Where: use.Where, Kind: use.Kind, Options: task.Again(use)})
}

// lineFor reports whether a line that the deed wrote mounts the device at the directory.
func (u *undoing) lineFor(v *inventory.Inventory, dir, node string) bool {
	for _, s := range u.deed.Steps {
		if s.File == nil || s.File.Path != fstab.Path {
			continue
		}
		for _, l := range fstab.Parse(s.File.After.Data).Entries() {
			if l.Entry.Dir == dir && slices.ContainsFunc(v.Resolve(l.Entry.Spec), func(n inventory.Node) bool { return n.Name == node }) {
				return true
			}
		}
	}
	return false
}

func (u *undoing) file(ctx context.Context, c *draft.FileChange) error {
	now, err := u.p.Stage.ReadFile(c.Path)
	if err != nil {
		return err
	}
	if c.After.Dir {
		// A directory is taken away only while it is empty; the executor looks.
		if c.Before.Missing && now.Dir {
			if err := u.vacate(ctx, c.Path); err != nil {
				return err
			}
			return u.p.Stage.PutFile("remove directory "+c.Path+", if it is empty", c.Path, now, c.Before)
		}
		return nil
	}
	if bytes.Equal(now.Data, c.After.Data) && now.Missing == c.After.Missing {
		return u.p.Stage.PutFile("restore "+c.Path, c.Path, now, c.Before)
	}
	if text, ok := merge.Back(string(c.Before.Data), string(c.After.Data), string(now.Data)); ok && !now.Missing && !c.After.Missing && !c.Before.Missing {
		u.p.Note("%s was changed since: only the deed's own lines are taken back", c.Path)
		back := now
		back.Data = []byte(text)
		return u.p.Stage.PutFile("take the deed's lines out of "+c.Path, c.Path, now, back)
	}
	if !u.over {
		return fmt.Errorf("deed %s: %w: the lines of %s that it changed are not as it left them; take your change out, or restore the whole file over it: --over-later-writes", u.deed.ID, ErrSince, c.Path)
	}
	u.p.Warn("%s was changed since; its content of before the deed is restored over that", c.Path)
	return u.p.Stage.PutFile("restore "+c.Path, c.Path, now, c.Before)
}

// action inverts mounts and swaps of this boot that still hold; partitions in
// the kernel follow the table.
func (u *undoing) action(ctx context.Context, a machine.Action) error {
	v, err := u.p.Now(ctx)
	if err != nil {
		return err
	}
	a = a.With(u.names)
	if a.Lasts() {
		return u.lasting(ctx, v, a)
	}
	inverse, ok := a.Inverse()
	if !ok || v.Machine.BootID != u.deed.BootID {
		return nil
	}
	switch a.Verb {
	case machine.Mount:
		if use, mounted := v.MountedAt(a.Where); mounted && use.Node == a.Node {
			return u.p.Stage.Tell(ctx, inverse)
		}
	case machine.SwapOn:
		if a.Node == "" {
			return u.givenUp(ctx, a.Where)
		}
		if machine.Holds(v, a) {
			return u.p.Stage.Tell(ctx, inverse)
		}
	case machine.Start:
		if !machine.Holds(v, a) {
			return nil
		}
		if n, ok := v.Node(a.Node); ok {
			if _, is, err := task.GiveUp(v, n); is && err != nil {
				return err
			}
		}
		return u.p.Stage.Tell(ctx, inverse)
	case machine.Stop:
		if machine.Holds(v, a) {
			u.starts = append(u.starts, inverse)
		}
	case machine.SwapOff:
		if a.Node != "" && machine.Holds(v, a) { // a device that was given up for as long as the deed took
			u.later = append(u.later, inverse)
		}
	case machine.Unmount:
		if _, mounted := v.MountedAt(a.Where); !mounted {
			return u.p.Stage.Tell(ctx, inverse)
		}
	}
	return nil
}

// lasting gives a label or an identifier back, in whatever boot: it lies on the device, not in
// the kernel alone.
func (u *undoing) lasting(ctx context.Context, v *inventory.Inventory, a machine.Action) error {
	inverse, _ := a.Inverse()
	switch {
	case machine.Holds(v, inverse):
		return nil
	case !machine.Holds(v, a) && !u.over:
		return fmt.Errorf("deed %s: %w: %q is no longer so; what was before is given back all the same with --over-later-writes", u.deed.ID, ErrSince, a)
	}
	return u.p.Stage.Tell(ctx, inverse)
}
