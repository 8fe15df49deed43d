package deed

import (
	"context"
	"fmt"

	"fundus/internal/draft"
	"fundus/internal/oscall"
)

// linking carries symbolic links.
type linking struct{ plain }

func (linking) read(data []byte) (draft.Body, error) { return decoded[draft.Linking](data) }

func (linking) shown(s draft.Step) Shown {
	return Shown{Stands: bodyOf[*draft.Linking](s).Path, Also: s.Title}
}

func (linking) inverse(_ context.Context, u *Undoing, _ int, s draft.Step) error {
	l := bodyOf[*draft.Linking](s)
	u.Stage.Link("take back: "+s.Title, l.Path, l.To, !l.Remove)
	return nil
}

func (linking) grade(draft.Step) draft.Grade { return draft.UntilChanged }

// foreign refuses to go on where somebody put another thing in the place of the link.
func (linking) foreign(_ context.Context, x *executor) error {
	for _, s := range x.deed.Steps {
		l, is := s.Body.(*draft.Linking)
		if !is {
			continue
		}
		if _, err := x.linkedAt(l); err != nil {
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

func (linking) carry(_ context.Context, x *executor, number int, way Way) error {
	l := bodyOf[*draft.Linking](x.deed.stepOf(number))
	if way.Forward == l.Remove {
		return oscall.RemoveLink(x.machine.Root(), l.Path, l.To)
	}
	there, err := x.linkedAt(l)
	if err != nil || there {
		return err
	}
	return oscall.MakeLink(x.machine.Root(), l.Path, l.To)
}
