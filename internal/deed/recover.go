package deed

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"

	"fundus/core/inventory"
	"fundus/core/progress"
	"fundus/core/way"
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
	Strokes   int // that were carried out or taken back
}

// ErrForward says that a deed keeps nothing that could be put back.
var ErrForward = errors.New("it was committed without undo, and can only be completed")

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

// Midway refuses to go on beside a deed that was cut short: that comes first.
func (s *Store) Midway() error {
	list, err := s.Unfinished()
	for _, d := range list {
		if d.Problem == nil {
			return way.To(fmt.Errorf("deed %d (%s): %w, and comes first", d.Number, d.Title, ErrNotOver), way.Recover(way.N(d.Number)))
		}
	}
	return err
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
	if err := d.Carried(); d.Problem == nil && err != nil {
		return nil, err
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
	x := &executor{deed: d, machine: r.Machine, store: r.Store, names: names, bootID: v.Machine.BootID, sink: r.Progress}
	defer x.closeFiles()
	defer func() { x.claim.Release() }()
	if err := x.openFiles(); err != nil {
		return nil, err
	}
	if r.Direction == Stay {
		return x.asItIs(v)
	}
	if d.Forward && r.Direction == Back {
		return nil, way.To(fmt.Errorf("deed %s: %w", d.ID, ErrForward), way.Recover(way.N(d.Number)))
	}
	for _, kind := range slices.Sorted(maps.Keys(carriers())) {
		if r.Over {
			break
		}
		if err := carriers()[kind].foreign(ctx, x); err != nil {
			return nil, err
		}
	}
	return x.recover(ctx, r.choose(d))
}

func (r *Recover) hopeless(d *Deed, err error) error {
	if _, none := os.Stat(d.dir + "/log"); errors.Is(none, os.ErrNotExist) {
		return way.To(fmt.Errorf("%w; it never touched a device", err), way.DeedRemove(way.N(d.Number)))
	}
	return fmt.Errorf("%w; the record cannot be followed. The fenced device holds parts of both states; restore it from a backup", err)
}

// choose takes the direction with fewer bytes, unless told.
func (r *Recover) choose(d *Deed) Direction {
	if r.Direction != Either {
		return r.Direction
	}
	behind, ahead := int64(0), int64(0)
	for i, s := range d.Strokes {
		if n := d.weight(s); i < d.at.next {
			behind += n
		} else {
			ahead += n
		}
	}
	if d.Forward {
		return Forward
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
		out.Strokes = len(x.deed.Strokes) - at.next
		x.work = fmt.Sprintf("completing deed %d", x.deed.Number)
		_, err = x.forward(ctx, at.next)
		x.deed.State = Done
	} else {
		last := at.next - 1
		if at.torn {
			last = at.next
		}
		out.Strokes = last + 1
		forward := false
		if forward, err = x.retreat(ctx, last); forward { // there was no way back
			out.Direction = Forward
		}
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
		err := x.machine.Do(ctx, v, machine.Action{Verb: machine.ReadTable, Device: disk})
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
