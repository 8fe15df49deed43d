package deed

import (
	"context"
	"errors"
	"fmt"
	"os"

	"fundus/core/inventory"
	"fundus/core/progress"
	"fundus/internal/machine"
)

// Direction is which way recover goes.
type Direction string

// The directions.
const (
	Either  Direction = "" // the one with fewer bytes
	Back    Direction = "back"
	Forward Direction = "forward"
	Stay    Direction = "as it is" // nothing is touched
)

// ParseDirection reads the word given to --direction.
func ParseDirection(word string) (Direction, error) {
	switch d := Direction(word); d {
	case Either, Back, Forward:
		return d, nil
	}
	return "", fmt.Errorf("%q is not a direction: use back or forward", word)
}

// Recover brings a deed that was cut short to its end or to its beginning.
type Recover struct {
	Store     *Store
	Machine   machine.Machine
	Direction Direction
	Image     string // the image file that stands for the deed's, by the name that it has on the machine
	Over      bool   // replace what somebody changed since, on devices and in text files
	Progress  progress.Sink
}

// Outcome is what recover did.
type Outcome struct {
	Deed      *Deed
	Direction Direction
	Units     int // that were carried out or taken back
}

// Unfinished lists the deeds that were cut short, newest first.
func (s *Store) Unfinished() ([]*Deed, error) {
	all, err := s.List()
	if err != nil {
		return nil, err
	}
	var out []*Deed
	for _, d := range all {
		if d.Problem != nil || d.State == Unfinished {
			out = append(out, d)
		}
	}
	return out, nil
}

// Run recovers one deed.
func (r *Recover) Run(ctx context.Context, d *Deed) (*Outcome, error) {
	if err := r.Store.prepare(); err != nil {
		return nil, err
	}
	lock, err := r.Store.lock(ctx, 0, "recovering deed "+d.ID)
	if err != nil {
		return nil, err
	}
	defer lock.Unlock()
	d = r.Store.read(d.ID) // as it is under the lock
	if d == nil {
		return nil, ErrNone
	}
	if d.Problem == nil && d.State != Unfinished {
		return nil, fmt.Errorf("deed %s is %s: there is nothing to recover", d.ID, d.State)
	}
	if err := d.open(); err != nil {
		return nil, r.hopeless(d, err)
	}
	v, err := r.Machine.Inventory(ctx)
	if err != nil {
		return nil, err
	}
	if d.Devices, err = d.Standing(v, r.Image); err != nil {
		return nil, err
	}
	names, err := Names(v, d.Devices)
	if err = errors.Join(err, d.InRoot(v.Machine.Root)); err != nil {
		return nil, err
	}
	if path, err := d.editedFile(r.Machine); err != nil || path != "" && !r.Over && r.Direction != Stay {
		return nil, errors.Join(err, editedError(d, path))
	}
	x := &executor{deed: d, machine: r.Machine, store: r.Store, names: names, bootID: v.Machine.BootID, sink: r.Progress}
	defer x.closeFiles()
	defer func() { x.claim.Release() }()
	if err := x.openFiles(); err != nil {
		return nil, err
	}
	if r.Direction == Stay {
		return x.asItIs(v)
	}
	if !r.Over {
		if err := x.checkForeign(ctx); err != nil {
			return nil, err
		}
	}
	return x.recover(ctx, r.choose(d))
}

// ErrEdited says that a text file is neither as before the deed nor as after it.
var ErrEdited = errors.New("somebody changed it since the deed was cut short")

// editedFile looks, before anything is done, for a text file that somebody
// edited meanwhile: replacing it would lose that.
func (d *Deed) editedFile(m machine.Reader) (string, error) {
	for _, u := range d.Units {
		if u.File == nil || u.File.After.Dir || u.File.Before.Dir {
			continue
		}
		now, err := m.ReadFile(u.File.Path)
		if err != nil {
			return "", err
		}
		if !now.Missing && string(now.Data) != string(u.File.Before.Data) && string(now.Data) != string(u.File.After.Data) {
			return u.File.Path, nil
		}
	}
	return "", nil
}

func editedError(d *Deed, path string) error {
	if path == "" {
		return nil
	}
	return fmt.Errorf("%s: %w; copy your version elsewhere, then run fundus recover %s --over-later-writes", path, ErrEdited, d.ID)
}

func (r *Recover) hopeless(d *Deed, err error) error {
	if _, none := os.Stat(d.dir + "/log"); errors.Is(none, os.ErrNotExist) {
		return fmt.Errorf("%w; it never touched a device: fundus deed remove %s", err, d.ID)
	}
	return fmt.Errorf("%w; the record cannot be followed. The fenced device holds parts of both states; restore it from a backup", err)
}

// choose takes the direction with fewer bytes, unless told.
func (r *Recover) choose(d *Deed) Direction {
	if r.Direction != Either {
		return r.Direction
	}
	behind, ahead := int64(0), int64(0)
	for i, u := range d.Units {
		for _, run := range d.runs[u.After[0]:u.After[1]] {
			if i < d.at.next {
				behind += run.Len
			} else {
				ahead += run.Len
			}
		}
	}
	if ahead < behind {
		return Forward
	}
	return Back
}

func (x *executor) recover(ctx context.Context, way Direction) (*Outcome, error) {
	out := &Outcome{Deed: x.deed, Direction: way}
	at := x.deed.at
	var err error
	if way == Forward {
		out.Units = len(x.deed.Units) - at.next
		_, err = x.forward(ctx, at.next)
		x.deed.State = Done
	} else {
		last := at.next - 1
		if at.torn {
			last = at.next
		}
		out.Units = last + 1
		err = x.back(ctx, last)
	}
	if err != nil {
		return nil, &MidwayError{x.deed.ID, err}
	}
	x.claim.Release() // the kernel reads no table of a disk that is claimed
	x.claim = nil
	return out, x.tellKernel(ctx)
}

// tellKernel has the kernel read the tables again that the recovery changed.
// Where a partition is in use it refuses, and keeps what it knows until the
// next boot; what it lacks is added one by one.
func (x *executor) tellKernel(ctx context.Context) error {
	v, err := x.machine.Inventory(ctx)
	if err != nil {
		return err
	}
	for _, t := range x.deed.Written() {
		disk := x.name(t.Name)
		if d, _ := v.Node(disk); d.Form == inventory.Image {
			continue
		}
		var refusal *machine.Refusal
		err := x.machine.Do(ctx, v, machine.Action{Verb: machine.ReadTable, Disk: disk})
		if err != nil && !errors.As(err, &refusal) {
			return err
		}
		if err == nil {
			continue
		}
		for _, a := range machine.Catchup(v, disk) {
			if err := x.machine.Do(ctx, v, a); err != nil && !errors.As(err, &refusal) {
				return err
			}
		}
	}
	return nil
}

// Former gives the units of a finished deed for taking them back: for each
// unit what was there before, and for all of them what must be there now.
type Former struct {
	deed          *Deed
	after, before *imageReader
}

// OpenFormer opens the images of a deed.
func (d *Deed) OpenFormer() (*Former, error) {
	if err := d.open(); err != nil {
		return nil, err
	}
	x := &executor{deed: d}
	var err error
	if x.after, err = newImageReader(d.dir + "/after.img"); err != nil {
		return nil, err
	}
	if x.before, err = newImageReader(d.dir + "/before.img"); err != nil {
		x.closeFiles()
		return nil, err
	}
	return &Former{d, x.after, x.before}, nil
}

// Close lets the images go.
func (f *Former) Close() {
	f.after.close()
	f.before.close()
}

// Each calls the function with the bytes of each run of the unit, after or
// before it. The data of a zero run is nil.
func (f *Former) Each(unit int, after bool, fn func(off, n int64, data []byte) error) error {
	u := f.deed.Units[unit]
	span, image := u.Before, f.before
	if after {
		span, image = u.After, f.after
	}
	for _, r := range f.deed.runs[span[0]:span[1]] {
		var data []byte
		if !r.Zero {
			var err error
			if data, err = image.read(r); err != nil {
				return err
			}
		}
		if err := fn(r.Off, r.Len, data); err != nil {
			return err
		}
	}
	return nil
}

// UnitsOf lists the units of a step, in order.
func (m *Manifest) UnitsOf(step int) []int {
	var out []int
	for i, u := range m.Units {
		if u.Step == step {
			out = append(out, i)
		}
	}
	return out
}

// NewerOn gives the newest deed that was made after this one in the same place
// and is still in force.
func (s *Store) NewerOn(d *Deed) (*Deed, error) {
	all, err := s.List()
	if err != nil {
		return nil, err
	}
	undone := map[string]bool{}
	for _, o := range all {
		if o.UndoneBy != "" {
			undone[o.ID], undone[o.UndoneBy] = true, true
		}
	}
	for _, o := range all {
		if o.Number <= d.Number {
			break
		}
		if o.Problem == nil && o.State != TakenBack && !undone[o.ID] && o.Touches(&d.Manifest) {
			return o, nil
		}
	}
	return nil, nil
}
