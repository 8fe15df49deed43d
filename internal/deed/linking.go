package deed

import (
	"context"
	"fmt"

	"fundus/internal/draft"
	"fundus/internal/oscall"
)

// linking carries symbolic links.
type linking struct{}

func (linking) record(_ *recorder, s draft.Stroke) (StrokeRecord, error) {
	return StrokeRecord{Step: s.Step}, nil
}

func (linking) weight(*Deed, StrokeRecord) int64 { return 0 }

func (linking) grade(draft.Step) draft.Grade { return draft.UntilChanged }

// foreign refuses to go on where somebody put another thing in the place of the link.
func (linking) foreign(_ context.Context, x *executor) error {
	for _, s := range x.deed.Steps {
		if s.Link == nil {
			continue
		}
		if _, err := x.linkedAt(s.Link); err != nil {
			return err
		}
	}
	return nil
}

// linkedAt reports whether the link is there; another thing in its place is an error.
func (x *executor) linkedAt(l *draft.Linking) (bool, error) {
	to, there, err := oscall.LinkAt(x.machine.Root(), l.Path)
	if err == nil && there && to != l.To {
		err = fmt.Errorf("%s: %w", l.Path, ErrOther)
	}
	return there, err
}

func (linking) carry(_ context.Context, x *executor, s StrokeRecord, forward bool) error {
	l := x.deed.Steps[s.Step].Link
	if forward == l.Remove {
		return oscall.RemoveLink(x.machine.Root(), l.Path, l.To)
	}
	there, err := x.linkedAt(l)
	if err != nil || there {
		return err
	}
	return oscall.MakeLink(x.machine.Root(), l.Path, l.To)
}
