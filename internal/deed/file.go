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
		return x.putFile(c, c.Before, c.After)
	}
	return x.putFile(c, c.After, c.Before)
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

// ErrLeads says that a symbolic link leads elsewhere than when the deed was planned.
var ErrLeads = errors.New("its link leads elsewhere now")

// putFile brings a text file or a directory from one state to the other. A symbolic link
// stays: what it leads to is replaced.
func (x *executor) putFile(c *draft.FileChange, from, want machine.FileState) error {
	at, err := machine.Below(x.machine.Root(), c.Path)
	if err == nil && c.To != "" && at.Path != c.To {
		err = fmt.Errorf("%s: %w: to %s, and to %s before", c.Path, ErrLeads, at.Path, c.To)
	}
	if err != nil {
		return err
	}
	full := at.Full
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
	case c.Over && !now.Missing:
		return oscall.OverwriteFile(full, want.Data)
	default:
		// Between the look above and the renaming lies a sync, in which somebody may have saved
		// the file; the deed's own state of before may be there too.
		return oscall.ReplaceFile(full, want.Data, ownAttributes(want.Attributes), func() error {
			again, err := machine.ReadFileState(full)
			if err == nil && !again.Same(now) && !again.Same(from) {
				err = fmt.Errorf("%s: %w", c.Path, ErrEdited)
			}
			return err
		})
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
