package deed

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"fundus/core/inventory"
	"fundus/core/text/fstab"
	"fundus/core/text/merge"
	"fundus/core/way"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/oscall"
)

// changing carries text files and directories.
type changing struct{ plain }

func (changing) read(data []byte) (draft.Body, error) { return decoded[draft.FileChange](data) }

func (changing) grade(draft.Step) draft.Grade { return draft.UntilChanged }

func (changing) touches(a, b sighted) Touch {
	one := bodyOf[*draft.FileChange](a.Step)
	other, is := b.Body.(*draft.FileChange)
	if is && one.Path == other.Path && !one.After.Dir && !other.After.Dir {
		return SameFile
	}
	return Apart
}

func (changing) shown(s draft.Step) Shown {
	c := bodyOf[*draft.FileChange](s)
	switch {
	case c.After.Dir:
		return Shown{}
	case c.Before.Dir:
		return Shown{Path: c.Path, Also: s.Title}
	}
	return Shown{Path: c.Path}
}

func (changing) carry(_ context.Context, x *executor, number int, way Way) error {
	c := bodyOf[*draft.FileChange](x.deed.stepOf(number))
	if way.Forward {
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
		c, is := s.Body.(*draft.FileChange)
		if !is || c.After.Dir || c.Before.Dir {
			continue
		}
		now, err := x.machine.ReadFile(c.Path)
		if err != nil {
			return err
		}
		if !now.Missing && string(now.Data) != string(c.Before.Data) && string(now.Data) != string(c.After.Data) {
			// The line that replaces it is not one to be copied without having been read.
			return way.To(fmt.Errorf("%s: %w; copy your version elsewhere, then --over-later-writes replaces it and --as-it-is keeps it",
				c.Path, ErrEdited), way.DeedShow(way.N(x.deed.Number)))
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

// inverse brings the file back to what it was. Of one that was changed since, only the deed's own
// lines are taken out.
func (changing) inverse(ctx context.Context, u *Undoing, _ int, s draft.Step) error {
	c := bodyOf[*draft.FileChange](s)
	now, err := u.Stage.ReadFile(c.Path)
	if err != nil {
		return err
	}
	if c.After.Dir {
		// A directory is taken away only while it is empty; the executor looks.
		if c.Before.Missing && now.Dir {
			if err := u.vacate(ctx, c.Path); err != nil {
				return err
			}
			return u.Stage.PutFile("remove directory "+c.Path+", if it is empty", c.Path, now, c.Before)
		}
		return nil
	}
	if bytes.Equal(now.Data, c.After.Data) && now.Missing == c.After.Missing {
		return u.Stage.PutFile("restore "+c.Path, c.Path, now, c.Before)
	}
	if text, ok := merge.Back(string(c.Before.Data), string(c.After.Data), string(now.Data)); ok && !now.Missing && !c.After.Missing && !c.Before.Missing {
		u.Note("%s was changed since: only the deed's own lines are taken back", c.Path)
		back := now
		back.Data = []byte(text)
		return u.Stage.PutFile("take the deed's lines out of "+c.Path, c.Path, now, back)
	}
	if !u.Over {
		return way.To(fmt.Errorf("deed %s: %w: the lines of %s that it changed were changed again; remove your change, or restore the whole file",
			u.Deed.ID, ErrSince, c.Path), way.Undo(way.N(u.Deed.Number), "--over-later-writes", "--draft"))
	}
	u.Warn("%s was changed since; its content from before the deed is restored over that", c.Path)
	return u.Stage.PutFile("restore "+c.Path, c.Path, now, c.Before)
}

// vacate unmounts what is mounted at a directory that the deed made and that goes now, where it
// is what the deed's own line names; what somebody else mounted there stays.
func (u *Undoing) vacate(ctx context.Context, dir string) error {
	v, err := u.Now(ctx)
	if err != nil {
		return err
	}
	use, mounted := v.MountedAt(dir)
	if !mounted {
		return nil
	}
	if !u.lineFor(v, dir, use.Node) {
		return &machine.Refusal{
			Rule:  machine.RuleMounted,
			Thing: dir,
			Text:  fmt.Sprintf("the deed made it, and %s is mounted there, which the deed did not say", use.Node),
			Next:  way.Unmount(dir),
		}
	}
	u.Note("%s is unmounted from %s first, which the deed made", use.Node, dir)
	return u.unmount(ctx, use)
}

// unmount plans that a mount goes, with what brings the same one back.
func (u *Undoing) unmount(ctx context.Context, use inventory.Use) error {
	return u.Stage.Tell(ctx, machine.Action{
		Verb:    machine.Unmount,
		Device:  use.Node,
		UseArgs: machine.UseArgs{Where: use.Where, Kind: use.Kind, Options: machine.SameAgain(use)},
	})
}

// lineFor reports whether a line that the deed wrote mounts the device at the directory.
func (u *Undoing) lineFor(v *inventory.Inventory, dir, node string) bool {
	for _, s := range u.Deed.Steps {
		c, is := s.Body.(*draft.FileChange)
		if !is || c.Path != fstab.Path {
			continue
		}
		for _, l := range fstab.Parse(c.After.Data).Entries() {
			if l.Entry.Dir == dir && slices.ContainsFunc(v.Resolve(l.Entry.Spec), func(n inventory.Node) bool { return n.Name == node }) {
				return true
			}
		}
	}
	return false
}
