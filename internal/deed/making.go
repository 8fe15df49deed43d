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
type making struct{}

func (making) record(_ *recorder, s draft.Stroke) (StrokeRecord, error) {
	return StrokeRecord{Step: s.Step}, nil
}

func (making) weight(*Deed, StrokeRecord) int64 { return 0 }

func (making) grade(draft.Step) draft.Grade { return draft.UntilChanged }

// ErrOther says that there is another file than the deed made.
var ErrOther = errors.New("there is another file than the one of the deed")

// foreign refuses to go over a file that somebody else put there.
func (making) foreign(_ context.Context, x *executor) error {
	for _, s := range x.deed.Steps {
		if s.Make == nil {
			continue
		}
		if _, _, err := x.madeAt(s.Make); err != nil {
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

func (making) carry(ctx context.Context, x *executor, s StrokeRecord, forward bool) error {
	m := x.deed.Steps[s.Step].Make
	full, there, err := x.madeAt(m)
	switch {
	case err != nil:
		return err
	case forward == m.Remove:
		return oscall.RemoveFile(full)
	case there:
		return nil
	}
	return oscall.MakeFile(ctx, oscall.Making{Path: full, Size: int64(m.Size), Header: m.Header, Written: m.Written, Plain: m.Plain}, func(done int64) {
		x.sink.Send("zeros of "+m.Path, quantity.Bytes(done), m.Size)
	})
}
