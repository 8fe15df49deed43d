package deed

import (
	"context"
	"errors"
	"fmt"

	"fundus/core/quantity"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/oscall"
)

// making carries large files, of which the deed keeps the beginning alone: behind it there are
// zeros.
type making struct{ plain }

func (making) read(data []byte) (draft.Body, error) { return decoded[draft.Making](data) }

func (making) shown(s draft.Step) Shown {
	return Shown{Stands: bodyOf[*draft.Making](s).Path, Also: s.Title}
}

// inverse takes the file away, which the kernel gives up first.
func (making) inverse(ctx context.Context, u *Undoing, _ int, s draft.Step) error {
	m := bodyOf[*draft.Making](s)
	if !m.Remove {
		if err := u.givenUp(ctx, m.Path); err != nil {
			return err
		}
	}
	back := *m
	back.Remove = !back.Remove
	u.Stage.Make("take back: "+s.Title, &back)
	return nil
}

func (making) grade(draft.Step) draft.Grade { return draft.UntilChanged }

// ErrOther says that there is another file than the deed made.
var ErrOther = errors.New("there is another file than the one of the deed")

// foreign refuses to go over a file that somebody else put there.
func (making) foreign(_ context.Context, x *executor) error {
	for _, s := range x.deed.Steps {
		m, is := s.Body.(*draft.Making)
		if !is {
			continue
		}
		if _, _, err := x.madeAt(m); err != nil {
			return err
		}
	}
	return nil
}

// madeAt is where the file lies, and whether it is there; another file is an error.
func (x *executor) madeAt(m *draft.Making) (full string, there bool, err error) {
	at, err := machine.Below(x.machine.Root(), m.Path)
	if err != nil {
		return "", false, err
	}
	there, ours, err := oscall.IsMade(at.Full, int64(m.Size), m.Header)
	if err == nil && there && !ours {
		err = fmt.Errorf("%s: %w", m.Path, ErrOther)
	}
	return at.Full, there, err
}

func (making) carry(ctx context.Context, x *executor, number int, way Way) error {
	m := bodyOf[*draft.Making](x.deed.stepOf(number))
	full, there, err := x.madeAt(m)
	switch {
	case err != nil:
		return err
	case way.Forward == m.Remove:
		return oscall.RemoveFile(full)
	case there:
		return nil
	}
	return oscall.MakeFile(ctx,
		oscall.Making{Path: full, Size: int64(m.Size), Header: m.Header, Written: m.Written, Plain: m.Plain}, func(done int64) {
			x.sink.Send("zeros of "+m.Path, quantity.Bytes(done), m.Size)
		})
}

// givenUp has the kernel give a file up that is swapped on. One that is taken away while it is
// keeps its blocks, and nobody can see why.
func (u *Undoing) givenUp(ctx context.Context, file string) error {
	v, err := u.Now(ctx)
	off := machine.Action{Verb: machine.SwapOff, UseArgs: machine.UseArgs{Where: file}}
	if err != nil || machine.Holds(v, off) {
		return err
	}
	if err := machine.Room(v, off); err != nil {
		return err
	}
	return u.Stage.Tell(ctx, off)
}
