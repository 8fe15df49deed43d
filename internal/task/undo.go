package task

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"fundus/core/block"
	"fundus/core/fstab"
	"fundus/internal/deed"
	"fundus/internal/draft"
	"fundus/internal/machine"
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
	ErrSince   = errors.New("something was written there since")
	ErrNewer   = errors.New("a newer deed lies over it")
	ErrUndone  = errors.New("it was taken back already")
	ErrNotDone = errors.New("it was never completed")
)

func (r *Undo) Plan(ctx context.Context, p *Planner) error {
	d, err := p.Store.Find(r.Deed)
	if err != nil {
		return err
	}
	if err := undoable(p.Store, d); err != nil {
		return err
	}
	if p.Draft.Request, err = Encode(&Undo{Deed: d.ID, Over: r.Over, Image: r.Image}); err != nil {
		return err
	}
	p.undoes = d.ID
	p.title("undo deed %s: %s", d.ID, d.Title)
	former, err := d.OpenFormer()
	if err != nil {
		return err
	}
	defer former.Close()
	u := &undoing{p: p, deed: d, former: former, over: r.Over}
	v, err := p.now(ctx)
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
	if slices.ContainsFunc(d.Steps, func(s draft.Step) bool { return s.Kind == draft.File && s.File.Path == fstab.Path }) {
		return p.reload(ctx)
	}
	return nil
}

func undoable(store *deed.Store, d *deed.Deed) error {
	switch {
	case d.Problem != nil:
		return fmt.Errorf("%w; nothing can be taken back from it, and fundus deed remove %d forgets it", d.Problem, d.Number)
	case d.State == deed.Unfinished:
		return fmt.Errorf("deed %s: %w; run fundus recover %s", d.ID, deed.ErrNotOver, d.ID)
	case d.State == deed.TakenBack:
		return fmt.Errorf("deed %s: %w, nothing is left of it", d.ID, ErrNotDone)
	case d.UndoneBy != "":
		return fmt.Errorf("deed %s: %w, by deed %s; fundus undo %s brings it back", d.ID, ErrUndone, d.UndoneBy, d.UndoneBy)
	}
	newer, err := store.NewerOn(d)
	if err != nil {
		return err
	}
	if newer != nil {
		return fmt.Errorf("deed %s: %w: %s (%s); undo that one first: fundus undo %s", d.ID, ErrNewer, newer.ID, newer.Title, newer.ID)
	}
	return nil
}

// undoing appends the inverse of one step after the other.
type undoing struct {
	p      *Planner
	deed   *deed.Deed
	former *deed.Former
	over   bool
	names  map[string]string // device as recorded -> as it is called now
}

func (u *undoing) step(ctx context.Context, number int, s draft.Step) error {
	switch s.Kind {
	case draft.Write:
		return u.write(ctx, number, s)
	case draft.File:
		return u.file(s.File)
	}
	return u.action(ctx, *s.Action)
}

// write restores the phases of a step in reverse. Its own fences are not
// restored, but the sectors beneath them are.
func (u *undoing) write(ctx context.Context, number int, s draft.Step) error {
	units := u.deed.UnitsOf(number)
	target := *s.Target
	target.Disk = u.names[s.Disk]
	if err := u.changedSince(ctx, target, units); err != nil {
		if !u.over {
			return err
		}
		u.p.warn("%v; it is written over, so run fundus verify afterwards", err)
		u.p.Draft.Losses = append(u.p.Draft.Losses, draft.Loss{Node: target.Disk, What: "what was written since", Name: u.deed.Code, Accept: []string{u.deed.ID}})
	}
	return u.p.write(ctx, "restore: "+s.Title, target, func(dev block.Device) error {
		for _, i := range slices.Backward(units) {
			if u.deed.Units[i].Role == draft.LiftFence {
				continue
			}
			err := u.former.Each(i, false, func(off, n int64, data []byte) error {
				return put(dev, off-int64(target.Start), n, data)
			})
			if err != nil {
				return err
			}
			// Each phase of a table must stay one; a fenced step is one whole.
			if s.Fence == nil {
				if err := dev.Sync(); err != nil {
					return err
				}
			}
		}
		return dev.Sync()
	})
}

func put(dev block.Device, off, n int64, data []byte) error {
	if data == nil {
		return dev.WriteZeroes(off, n)
	}
	_, err := dev.WriteAt(data, off)
	return err
}

// changedSince compares the device with what the step left behind.
func (u *undoing) changedSince(ctx context.Context, t machine.Target, units []int) error {
	o, err := u.p.Stage.Overlay(ctx, t.Disk)
	if err != nil {
		return err
	}
	left := block.NewOverlay(o, block.Spill{})
	for _, i := range units {
		err := u.former.Each(i, true, func(off, n int64, data []byte) error { return put(left, off, n, data) })
		if err != nil {
			return err
		}
	}
	if err := left.Sync(); err != nil {
		return err
	}
	for i := range left.Phases() {
		for _, e := range left.Phase(i) {
			if at, err := differs(o, left, e); err != nil {
				return err
			} else if at >= 0 {
				return u.since(ctx, t, at)
			}
		}
	}
	return nil
}

func (u *undoing) since(ctx context.Context, t machine.Target, at int64) error {
	inside := at - int64(t.Start)
	place := fmt.Sprintf("byte %d of %s", at, t.Disk)
	if t.Start > 0 {
		place = fmt.Sprintf("%s (byte %d of the partition)", place, inside)
	}
	why := ""
	v, err := u.p.now(ctx)
	if err != nil {
		return err
	}
	for _, n := range v.Family(t.Disk) {
		if c, ok := n.Content(); ok && strings.HasPrefix(c.Kind, "ext") && at >= int64(n.Start)+1024 && at < int64(n.Start)+2048 {
			why = fmt.Sprintf(", the superblock of the %s on %s: it was mounted for writing", c.Kind, n.Name)
		}
	}
	return fmt.Errorf("deed %s: %w: %s%s; what was written would be lost: --over-later-writes", u.deed.ID, ErrSince, place, why)
}

// differs gives the first byte of the extent in which both differ, or -1.
func differs(a, b block.Device, e block.Extent) (int64, error) {
	const piece = 1 << 20
	for at := e.Off; at < e.Off+e.Len; at += piece {
		n := min(e.Off+e.Len-at, piece)
		x, errA := block.ReadSized(a, at, n, piece)
		y, errB := block.ReadSized(b, at, n, piece)
		if err := errors.Join(errA, errB); err != nil {
			return 0, err
		}
		if !bytes.Equal(x, y) {
			for i := range x {
				if x[i] != y[i] {
					return at + int64(i), nil
				}
			}
		}
	}
	return -1, nil
}

func (u *undoing) file(c *draft.FileChange) error {
	now, err := u.p.Stage.ReadFile(c.Path)
	if err != nil {
		return err
	}
	if c.After.Dir {
		// A directory is taken away only while it is empty; the executor looks.
		if c.Before.Missing && now.Dir {
			return u.p.Stage.PutFile("remove directory "+c.Path+", if it is empty", c.Path, now, c.Before)
		}
		return nil
	}
	if !bytes.Equal(now.Data, c.After.Data) || now.Missing != c.After.Missing {
		if !u.over {
			return fmt.Errorf("deed %s: %w: %s was changed; take your change out of it, or restore its former content over it: --over-later-writes", u.deed.ID, ErrSince, c.Path)
		}
		u.p.warn("%s was changed since; its content of before the deed is restored over that", c.Path)
	}
	return u.p.Stage.PutFile("restore "+c.Path, c.Path, now, c.Before)
}

// action inverts mounts and swaps of this boot that still hold; partitions in
// the kernel follow the table.
func (u *undoing) action(ctx context.Context, a machine.Action) error {
	v, err := u.p.now(ctx)
	if err != nil {
		return err
	}
	a = a.With(u.names)
	inverse, ok := a.Inverse()
	if !ok || v.Machine.BootID != u.deed.BootID {
		return nil
	}
	switch a.Verb {
	case machine.Mount:
		if use, mounted := v.MountedAt(a.Where); mounted && use.Node == a.Node {
			return u.p.Stage.Tell(ctx, inverse)
		}
	case machine.Unmount:
		if _, mounted := v.MountedAt(a.Where); !mounted {
			return u.p.Stage.Tell(ctx, inverse)
		}
	}
	return nil
}
