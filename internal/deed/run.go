package deed

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"fundus/core/block"
	"fundus/core/block/file"
	"fundus/core/progress"
	"fundus/core/quantity"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/oscall"
)

// executor carries the units of one deed out, forward or back.
type executor struct {
	deed          *Deed
	machine       machine.Machine
	store         *Store
	claim         *machine.Claim
	targets       []machine.Target
	names         map[string]string // disk as recorded -> disk as it is called now
	bootID        string
	log           *journal
	after, before *imageReader
	sink          progress.Sink
	done, total   quantity.Bytes
	indirect      bool // a read-back had to go without direct I/O
}

// ErrReadBack says that the medium holds something else than was written.
var ErrReadBack = errors.New("reading back gives other bytes than were written")

func (x *executor) openFiles() (err error) {
	if x.log, err = openJournal(filepath.Join(x.deed.dir, "log"), x.bootID, x.store.Now); err != nil {
		return err
	}
	if x.after, err = newImageReader(filepath.Join(x.deed.dir, "after.img")); err != nil {
		return err
	}
	x.before, err = newImageReader(filepath.Join(x.deed.dir, "before.img"))
	return err
}

func (x *executor) closeFiles() {
	if x.log != nil {
		x.log.close()
	}
	if x.after != nil {
		x.after.close()
	}
	if x.before != nil {
		x.before.close()
	}
}

// commit goes forward from the start. After an error or an interruption it goes
// back; where that fails too, the deed stays unfinished.
func (x *executor) commit(ctx context.Context) error {
	defer x.closeFiles()
	defer func() { x.claim.Release() }()
	if err := x.openFiles(); err != nil {
		return err
	}
	at, err := x.forward(ctx, 0)
	if err == nil {
		x.deed.State = Done
		return nil
	}
	if errors.Is(err, block.ErrPowerLost) {
		return &MidwayError{x.deed.ID, err}
	}
	if back := x.back(context.WithoutCancel(ctx), at); back != nil {
		return &MidwayError{x.deed.ID, errors.Join(err, back)}
	}
	return &TakenBackError{x.deed.ID, err}
}

// forward carries out the units from the given one. On an error it says which
// unit failed.
func (x *executor) forward(ctx context.Context, from int) (failed int, err error) {
	x.total = 0
	for _, u := range x.deed.Units[from:] {
		for _, r := range x.deed.runs[u.After[0]:u.After[1]] {
			x.total += quantity.Bytes(r.Len)
		}
	}
	for i := from; i < len(x.deed.Units); i++ {
		if err := ctx.Err(); err != nil {
			return i - 1, fmt.Errorf("interrupted: %w", err)
		}
		u := x.deed.Units[i]
		if err := x.log.line(beginForward, i, string(u.Kind)); err != nil {
			return i, err
		}
		if err := x.do(ctx, u, true); err != nil {
			return i, err
		}
		if err := x.log.line(endForward, i, ""); err != nil {
			return i, err
		}
	}
	if x.indirect {
		if err := x.log.line(remark, 0, "read back without direct I/O: clean pages were dropped instead"); err != nil {
			return len(x.deed.Units) - 1, err
		}
	}
	return len(x.deed.Units), x.log.line(completed, 0, "")
}

// back takes the units back from the given one down to the first.
func (x *executor) back(ctx context.Context, from int) error {
	for i := from; i >= 0; i-- {
		if err := x.log.line(beginBack, i, ""); err != nil {
			return err
		}
		if err := x.do(ctx, x.deed.Units[i], false); err != nil {
			return err
		}
		if err := x.log.line(endBack, i, ""); err != nil {
			return err
		}
	}
	x.deed.State = TakenBack
	return x.log.line(takenBack, 0, "")
}

func (x *executor) do(ctx context.Context, u UnitRecord, forward bool) error {
	switch u.Kind {
	case draft.Write:
		return x.write(ctx, u, forward)
	case draft.File:
		if forward {
			return x.putFile(u.File.Path, u.File.After)
		}
		return x.putFile(u.File.Path, u.File.Before)
	}
	return x.act(ctx, *u.Action, forward)
}

// device claims the targets again where the claim was given up for an action.
func (x *executor) device(ctx context.Context, disk string) (block.Device, error) {
	if name, ok := x.names[disk]; ok {
		disk = name
	}
	if x.claim == nil {
		claim, err := x.machine.Claim(ctx, x.targets)
		if err != nil {
			return nil, err
		}
		x.claim = claim
	}
	return x.claim.Device(disk)
}

func (x *executor) write(ctx context.Context, u UnitRecord, forward bool) error {
	dev, err := x.device(ctx, u.Disk)
	if err != nil {
		return err
	}
	runs, image := x.deed.runs[u.Before[0]:u.Before[1]], x.before
	if forward {
		runs, image = x.deed.runs[u.After[0]:u.After[1]], x.after
	}
	for _, r := range runs {
		if err := x.writeRun(dev, r, image); err != nil {
			return fmt.Errorf("%s: %w", u.Disk, err)
		}
		x.done += quantity.Bytes(r.Len)
		x.sink.Send(x.deed.Title, x.done, x.total)
	}
	if err := dev.Sync(); err != nil {
		return fmt.Errorf("%s: sync: %w", u.Disk, err)
	}
	for _, r := range runs {
		if err := x.readBack(dev, r, image); err != nil {
			return fmt.Errorf("%s: %w", u.Disk, err)
		}
	}
	return nil
}

func (x *executor) writeRun(dev block.Device, r run, image *imageReader) error {
	if r.Zero {
		return dev.WriteZeroes(r.Off, r.Len)
	}
	data, err := image.read(r)
	if err != nil {
		return err
	}
	_, err = dev.WriteAt(data, r.Off)
	return err
}

// readBack compares with what the medium holds, past the page cache where the
// device can do that.
func (x *executor) readBack(dev block.Device, r run, image *imageReader) error {
	var want []byte
	if !r.Zero {
		var err error
		if want, err = image.read(r); err != nil {
			return err
		}
	}
	for at := int64(0); at < r.Len; at += chunk {
		n := min(r.Len-at, chunk)
		got, direct, err := readPastCache(dev, r.Off+at, n)
		if err != nil {
			return err
		}
		x.indirect = x.indirect || !direct
		if r.Zero && !block.IsZero(got) || !r.Zero && string(got) != string(want[at:at+n]) {
			return fmt.Errorf("byte %d: %w", r.Off+at, ErrReadBack)
		}
	}
	return nil
}

// backReader is a device that can read past the page cache.
type backReader interface {
	ReadBack(p []byte, off int64) (direct bool, err error)
}

func readPastCache(dev block.Device, off, n int64) (data []byte, direct bool, err error) {
	r, ok := dev.(backReader)
	if !ok {
		data, err = block.ReadSized(dev, off, n, chunk)
		return data, true, err
	}
	const page = 4096
	start := off - off%page
	end := min((off+n+page-1)/page*page, dev.Size())
	buf := file.AlignedBuffer(int(end - start))
	direct, err = r.ReadBack(buf, start)
	return buf[off-start : off-start+n], direct, err
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

// act carries an action out, unless it holds already. Back, it inverts the
// action only where it holds and was done in this boot.
func (x *executor) act(ctx context.Context, a machine.Action, forward bool) error {
	if x.names != nil {
		if name, ok := x.names[a.Disk]; ok {
			a.Disk = name
		}
	}
	switch a.Verb {
	case machine.Mount, machine.Unmount, machine.SwapOn, machine.SwapOff, machine.ReadTable:
		x.claim.Release()
		x.claim = nil
	}
	holds, err := x.machine.Holds(ctx, a)
	if err != nil || forward && holds || !forward && (!holds || x.deed.BootID != x.bootID) {
		return err
	}
	if !forward {
		inverse, ok := a.Inverse()
		if !ok {
			return nil
		}
		a = inverse
	}
	return x.machine.Do(ctx, a)
}
