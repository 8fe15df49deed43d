package act

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	"fundus/core/fs"
	"fundus/core/gather"
	"fundus/core/inventory"
	"fundus/core/progress"
	"fundus/core/quantity"
	"fundus/core/refused"
	"fundus/core/target"
	"fundus/core/way"
	"fundus/internal/machine"
	"fundus/internal/oscall"
	"fundus/internal/task/boot"
)

// Gather has the kernel put files of a mounted file system together that lie in more pieces
// than they need. What the files hold stays the same, so that there is nothing to undo.
type Gather struct {
	Place string        // a directory, or what is mounted
	For   time.Duration // then no other file is begun; 0 for no end
	Look  bool          // only say what would be done
}

// Gathered is what was found, and done.
type Gathered struct {
	Place, Node string
	Moves       bool // the disk reads with parts that move
	Worst       *gather.Worst
	Rows        []GatheredFile // that were tried, or would be, the worst first
	Done        gather.Sum     // files that lie better now, with their pieces of before
	Became      int            // their pieces now
	Busy        int            // files that were being written
	Ended       string         // why not all were tried; "" where they were
}

// GatheredFile is one file.
type GatheredFile struct {
	gather.File
	After int    // pieces; 0 where it is as it was
	Why   string // it is
}

// mostGathered is how many files one run takes.
const mostGathered = 10000

// Run looks for the files, and puts one after the other together. Whatever ends it, each file
// is whole.
func (g Gather) Run(ctx context.Context, m machine.Machine) (*Gathered, error) {
	v, err := m.Inventory(ctx)
	if err != nil {
		return nil, err
	}
	out := &Gathered{Worst: gather.NewWorst(mostGathered)}
	if out.Place, err = gatherPlace(v, m, g.Place); err != nil {
		return nil, err
	}
	on, _ := v.MountOf(out.Place)
	out.Node = on.Node
	disk, _ := v.Node(on.Node)
	disk, _ = v.Node(disk.Disk())
	out.Moves = disk.Hardware.Rotational
	files, err := machine.Gathering(m, v, out.Place)
	if err != nil {
		return nil, err
	}
	if err := files.Scattered(ctx, v, out.Place, out.Worst.Show); err != nil {
		return nil, err
	}
	began := time.Now()
	var total, done quantity.Bytes
	for _, f := range out.Worst.List() {
		total += f.Data
	}
	for _, f := range out.Worst.List() {
		row := GatheredFile{File: f}
		switch {
		case g.Look:
		case ctx.Err() != nil:
			out.Ended = "it was interrupted"
		case g.For > 0 && time.Since(began) >= g.For:
			out.Ended = "the time is up"
		default:
			if err := out.one(ctx, files, v, &row); err != nil {
				return out, err
			}
			done += f.Data
			progress.Of(ctx).Send("files", done, total)
		}
		if out.Ended != "" {
			break
		}
		out.Rows = append(out.Rows, row)
	}
	return out, nil
}

// one puts a file together. What is in its way is said of it, and what is in the way of all
// is an error.
func (o *Gathered) one(ctx context.Context, m machine.Gatherer, v *inventory.Inventory, row *GatheredFile) error {
	after, err := m.Together(ctx, v, o.Place, row.Path)
	for _, left := range []error{oscall.ErrWritten, oscall.ErrNoRun, oscall.ErrRoom, oscall.ErrLeft} {
		if errors.Is(err, left) {
			row.Why = strings.TrimPrefix(err.Error(), row.Path+": ")
			if errors.Is(err, oscall.ErrWritten) {
				o.Busy++
			}
			return nil
		}
	}
	switch {
	case errors.Is(err, context.Canceled):
		o.Ended = "it was interrupted"
		return nil
	case oscall.Gone(err):
		row.Why = "it is gone"
		return nil
	case err != nil:
		return err
	case after.Pieces >= row.Pieces:
		row.Why = "its new place is no better"
		return nil
	}
	row.After = after.Pieces
	o.Done.Add(row.File)
	o.Became += after.Pieces
	return nil
}

// gatherPlace is the directory that the word means: a path, or where a device is mounted.
func gatherPlace(v *inventory.Inventory, m machine.Machine, word string) (string, error) {
	if !strings.HasPrefix(word, "/") || strings.HasPrefix(word, "/dev/") {
		n, err := target.Resolve(v, word)
		if err != nil {
			return "", err
		}
		mounts := machine.Mounts(v, n.Name)
		if c, ok := n.Content(); len(mounts) == 0 && (!ok || c.Class != fs.FileSystem) {
			return "", boot.Unmountable(v, n)
		}
		if len(mounts) == 0 {
			return "", &machine.Refusal{
				Rule:  machine.RuleNotMounted,
				Thing: n.Name,
				Text:  "it is not mounted: the kernel puts files together while they can be used",
				Next:  way.Mount(n.Name),
			}
		}
		return mounts[0].Where, nil
	}
	at, err := m.Place(path.Clean(word))
	switch {
	case err != nil:
		return "", err
	case !at.There:
		return "", refused.As(refused.NoDirectory, fmt.Errorf("%s: there is no such directory", word))
	}
	return at.Path, nil
}
