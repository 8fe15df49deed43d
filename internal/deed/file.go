package deed

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"fundus/core/advice"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/oscall"
)

// changing carries text files and directories.
type changing struct{}

func (changing) record(_ *recorder, s draft.Stroke) (StrokeRecord, error) {
	return StrokeRecord{Step: s.Step}, nil
}

func (changing) weight(*Deed, StrokeRecord) int64 { return 0 }

func (changing) grade(draft.Step) draft.Grade { return draft.UntilChanged }

func (changing) carry(_ context.Context, x *executor, s StrokeRecord, forward bool) error {
	c := x.deed.Steps[s.Step].File
	if forward {
		return x.putFile(c.Path, c.After)
	}
	return x.putFile(c.Path, c.Before)
}

// ErrEdited says that a text file is neither as before the deed nor as after it.
var ErrEdited = errors.New("somebody changed it since the deed was cut short")

// foreign looks for a text file that somebody edited meanwhile: replacing it would lose
// that.
func (changing) foreign(_ context.Context, x *executor) error {
	for _, s := range x.deed.Steps {
		c := s.File
		if c == nil || c.After.Dir || c.Before.Dir {
			continue
		}
		now, err := x.machine.ReadFile(c.Path)
		if err != nil {
			return err
		}
		if !now.Missing && string(now.Data) != string(c.Before.Data) && string(now.Data) != string(c.After.Data) {
			// The line that replaces it is not one to be copied without having been read.
			return advice.Way(fmt.Errorf("%s: %w; copy your version elsewhere, then --over-later-writes replaces it and --as-it-is keeps it", c.Path, ErrEdited), "fundus deed show %d", x.deed.Number)
		}
	}
	return nil
}

// putFile brings a text file or a directory to the state.
func (x *executor) putFile(path string, want machine.FileState) error {
	full, err := oscall.Inside(x.machine.Root(), path)
	if err != nil {
		return err
	}
	now, err := machine.ReadFileState(full)
	if err != nil {
		return err
	}
	switch {
	case now.Same(want) || now.Dir && want.Dir:
		return nil
	case want.Missing && now.Dir:
		return removeEmpty(full)
	case want.Missing:
		err = os.Remove(full)
	case want.Dir:
		err = os.Mkdir(full, want.Attributes.Mode)
	default:
		return oscall.WriteFile(full, want.Data, ownAttributes(want.Attributes))
	}
	if err != nil {
		return err
	}
	return oscall.SyncDir(filepath.Dir(full))
}

// removeEmpty leaves a directory in which somebody put something since.
func removeEmpty(dir string) error {
	entries, err := os.ReadDir(dir)
	if err != nil || len(entries) > 0 {
		return err
	}
	if err := os.Remove(dir); err != nil {
		return err
	}
	return oscall.SyncDir(filepath.Dir(dir))
}

// ownAttributes makes a new file the caller's where no owner was recorded.
func ownAttributes(a oscall.Attributes) oscall.Attributes {
	if a.UID == 0 && a.GID == 0 {
		a.UID, a.GID = os.Getuid(), os.Getgid()
	}
	return a
}
