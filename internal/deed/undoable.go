package deed

import (
	"errors"
	"fmt"

	"fundus/core/way"
)

// Why a deed cannot be taken back.
var (
	ErrNewer   = errors.New("a newer deed changed the same place")
	ErrUndone  = errors.New("it was taken back already")
	ErrNotDone = errors.New("it was never completed")
	ErrNoUndo  = errors.New("it cannot be taken back")
)

// NoWay says why a deed cannot be taken back, as far as the deeds themselves tell; nil where
// they do not speak against it. What was written to its place since is seen only there. all
// are the deeds of the store, the newest first.
func NoWay(all []*Deed, d *Deed) error {
	if err := d.Carried(); d.Problem == nil && err != nil {
		return err
	}
	switch {
	case d.Problem != nil:
		return fmt.Errorf("%w; nothing can be taken back from it", d.Problem)
	case d.State == Unfinished:
		return way.To(fmt.Errorf("deed %s: %w", d.ID, ErrNotOver), way.Recover(way.N(d.Number)))
	case d.State == TakenBack:
		return fmt.Errorf("deed %s: %w, nothing is left of it", d.ID, ErrNotDone)
	case d.UndoneBy != "":
		return way.To(fmt.Errorf("deed %s: %w, by deed %s, which can be taken back itself", d.ID, ErrUndone,
			d.UndoneBy), way.Undo(d.UndoneBy))
	}
	if d.Forward {
		return fmt.Errorf("deed %s: %w: nothing from before was kept", d.ID, ErrNoUndo)
	}
	if d.Last > 0 {
		return fmt.Errorf("deed %s: %w: step %d, %q, has no way back, and what stands before it must stay as it is",
			d.ID, ErrNoUndo, d.Last, d.Steps[d.Last-1].Title)
	}
	newer := newerOn(all, d)
	if newer != nil && newer.State == Done && !newer.Reversible() {
		return fmt.Errorf("deed %s: %w: %s (%s), which has no way back itself", d.ID, ErrNewer, newer.ID, newer.Title)
	}
	if newer != nil {
		return way.To(fmt.Errorf("deed %s: %w: %s (%s); undo that one first", d.ID, ErrNewer, newer.ID, newer.Title), way.Undo(way.N(newer.Number)))
	}
	return nil
}

// newerOn gives the newest of the deeds that was made after this one in the same place
// and is still in force.
func newerOn(all []*Deed, d *Deed) *Deed {
	undone := map[string]bool{}
	for _, o := range all {
		if o.UndoneBy != "" {
			undone[o.ID], undone[o.UndoneBy] = true, true
		}
	}
	for _, o := range all {
		if o.Number <= d.Number {
			break
		}
		// Of a text file only the deed's own lines are taken back: another deed's may stand
		// beside them, unless it is not over.
		touch := o.Touches(&d.Manifest)
		over := touch == Under || o.State == Unfinished && touch > Apart
		if o.Problem == nil && o.State != TakenBack && !undone[o.ID] && over {
			return o
		}
	}
	return nil
}
