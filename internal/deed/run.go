package deed

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"fundus/core/block"
	"fundus/core/inventory"
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
	names         map[string]string    // device as recorded -> device as it is called now; nil: as recorded
	look          *inventory.Inventory // at the machine, for actions that follow each other
	bootID        string
	log           *journal
	after, before *imageReader
	sink          progress.Sink
	done, total   quantity.Bytes
	buf           []byte // of gather
	spare         *spare // buffers of reading back
	indirect      bool   // a read-back had to go without direct I/O
	reloads       bool   // taken back was something that systemd had read
}

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
	if x.reloads { // last, when all files are as they were
		if err := x.perform(ctx, machine.Action{Verb: machine.ReloadUnits}); err != nil {
			return err
		}
	}
	x.deed.State = TakenBack
	return x.log.line(takenBack, 0, "")
}

func (x *executor) do(ctx context.Context, u UnitRecord, forward bool) error {
	if u.Kind != draft.Act {
		x.look = nil // it is about to be out of date
	}
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

// device is the claimed disk. Where the claim was given up for an action, what the
// remaining steps write to is claimed again: from the step on, or back to the first.
func (x *executor) device(ctx context.Context, disk string, step int, forward bool) (block.Device, error) {
	if x.claim == nil {
		var targets []machine.Target
		for i, s := range x.deed.Steps {
			if s.Target != nil && ((i >= step) == forward || i == step) {
				targets = append(targets, x.target(*s.Target))
			}
		}
		claim, err := x.machine.Claim(ctx, nil, targets)
		if err != nil {
			return nil, err
		}
		x.claim = claim
	}
	return x.claim.Device(x.name(disk))
}

// name is what a device is called now.
func (x *executor) name(was string) string {
	if now, ok := x.names[was]; ok {
		return now
	}
	return was
}

func (x *executor) target(t machine.Target) machine.Target {
	t.Disk = x.name(t.Disk)
	return t
}

func (x *executor) write(ctx context.Context, u UnitRecord, forward bool) error {
	dev, err := x.device(ctx, u.Disk, u.Step, forward)
	if err != nil {
		return err
	}
	runs, image := x.deed.runs[u.Before[0]:u.Before[1]], x.before
	if forward {
		runs, image = x.deed.runs[u.After[0]:u.After[1]], x.after
	}
	all := runs
	for len(runs) > 0 {
		data, n, count, err := gather(runs, image, x.buf)
		if err != nil {
			return err
		}
		if data != nil {
			x.buf = data
		}
		off := runs[0].Off
		if runs[0].Zero {
			err = dev.WriteZeroes(off, n)
		} else {
			_, err = dev.WriteAt(data, off)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", u.Disk, err)
		}
		runs = runs[count:]
		x.done += quantity.Bytes(n)
		x.sink.Send(x.deed.Title, x.done, x.total)
	}
	if err := dev.Sync(); err != nil {
		return fmt.Errorf("%s: sync: %w", u.Disk, err)
	}
	if x.spare == nil {
		x.spare = newSpare()
	}
	direct, err := readBack(dev, all, image, x.spare)
	x.indirect = x.indirect || !direct
	if err != nil {
		return fmt.Errorf("%s: %w", u.Disk, err)
	}
	return nil
}

// most is how many bytes are written or compared together.
const most = 1 << 20

// gather joins the first run with those that follow it on the device, up to
// most bytes. The data of zeros is nil; other data is put into the buffer, or into a
// larger one.
func gather(runs []run, image *imageReader, buf []byte) (data []byte, n int64, count int, err error) {
	first := runs[0]
	if first.Zero {
		return nil, first.Len, 1, nil
	}
	data = buf[:0]
	for _, r := range runs {
		if r.Zero || r.Off != first.Off+n || n+r.Len > most {
			break
		}
		part, err := image.read(r)
		if err != nil {
			return nil, 0, 0, err
		}
		data = append(data, part...)
		n, count = n+r.Len, count+1
	}
	return data, n, count, nil
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
	recorded := a
	a = a.With(x.names)
	switch a.Verb {
	case machine.Mount, machine.Unmount, machine.SwapOn, machine.SwapOff:
		x.claim.Release()
		x.claim = nil
	case machine.ReadTable, machine.RemovePartition:
		if err := x.claim.LetGoOfPartitions(a.Disk); err != nil {
			return err
		}
	}
	if a.Verb == machine.ReloadUnits && !forward {
		x.reloads = x.deed.BootID == x.bootID
		return nil
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
	if x.look, err = machine.Looked(ctx, x.machine, x.look); err != nil {
		return err
	}
	if x.names != nil && recorded.Node != "" {
		if err := x.deed.is(x.look, x.names, recorded.Node); err != nil {
			return err
		}
	}
	if err := x.perform(ctx, a); err != nil {
		return err
	}
	if a.Verb == machine.AddPartition && x.writesLater(a) {
		return x.claim.TakeUp(a)
	}
	return nil
}

// writesLater reports whether a later step writes to the content of the partition that
// the kernel was just told of.
func (x *executor) writesLater(a machine.Action) bool {
	return slices.ContainsFunc(x.deed.Steps, func(s draft.Step) bool {
		return s.Target != nil && s.Target.Content && x.name(s.Target.Disk) == a.Disk && s.Target.Start >= a.Start && s.Target.Start < a.Start+a.Size
	})
}

// perform has the machine do it. What only the next boot brings about is no
// failure: the deed says so, and so does the exit code.
func (x *executor) perform(ctx context.Context, a machine.Action) error {
	err := x.machine.Do(ctx, x.look, a)
	var later *machine.LaterError
	if errors.As(err, &later) {
		x.deed.Later = append(x.deed.Later, later.Error())
		return x.log.line(remark, 0, later.Error())
	}
	return err
}
