package deed

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"fundus/core/inventory"
	"fundus/core/way"
	"fundus/internal/draft"
	"fundus/internal/machine"
)

// acting carries actions of the running system.
type acting struct{ plain }

func (acting) read(data []byte) (draft.Body, error) { return decoded[draft.Acting](data) }

func (acting) names(s draft.Step) []string { return bodyOf[*draft.Acting](s).Devices() }

// looks is so since each action says what it brings about (machine.Effect).
func (acting) looks() bool { return true }

func (acting) shown(s draft.Step) Shown {
	if a := bodyOf[*draft.Acting](s); a.Tree() {
		return Shown{Also: a.String()}
	}
	return Shown{}
}

func (acting) brings(v *inventory.Inventory, s draft.Step, names map[string]string, forward bool) {
	a := bodyOf[*draft.Acting](s).With(names)
	if inverse, ok := a.Inverse(); ok && !forward {
		a = inverse
	}
	machine.Effect(v, a)
}

// came asks the machine, but for what counts as done once it has begun.
func (acting) came(ctx context.Context, x *executor, s draft.Step) (bool, error) {
	a := bodyOf[*draft.Acting](s)
	if a.Once() {
		return true, nil
	}
	return x.machine.Holds(ctx, a.With(x.names))
}

func (acting) grade(s draft.Step) draft.Grade {
	if bodyOf[*draft.Acting](s).Lasts() {
		return draft.Exactly
	}
	return draft.Nothing
}

// carry carries an action out, unless it holds already. Back, it inverts the
// action only where it holds and was done in this boot.
func (acting) carry(ctx context.Context, x *executor, number int, way Way) error {
	recorded, forward := bodyOf[*draft.Acting](x.deed.stepOf(number)).Action, way.Forward
	a := recorded.With(x.names)
	if a.Aside() && !forward {
		x.reloads = x.deed.BootID == x.bootID
		return nil
	}
	if a.Once() && x.names != nil { // somebody may have written there since
		return x.log.line(remark, 0, "left out at the recovery: "+a.String())
	}
	holds, err := x.machine.Holds(ctx, a)
	past := x.deed.BootID != x.bootID && !a.Lasts() // gone with its boot
	if err != nil || forward && holds || !forward && (!holds || past) {
		return err
	}
	if !forward {
		inverse, ok := a.Inverse()
		if !ok {
			return nil
		}
		a = inverse
	}
	if err := x.give(a); err != nil {
		return err
	}
	if x.look == nil && x.seen != nil && !a.Ruled() { // it goes by the names of devices alone
		before := *x.seen
		x.look = &before
		defer func() { x.look = nil }()
	}
	if x.look, err = machine.Looked(ctx, x.machine, x.look); err != nil {
		return err
	}
	if x.names != nil && recorded.Device != "" {
		if err := x.deed.is(x.look, x.names, recorded.Device); err != nil {
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

// give lets go of what the kernel wants for itself: by what is done, which on the way back
// is the inverse of what was recorded.
func (x *executor) give(a machine.Action) error {
	switch a.Gives() {
	case machine.GivesAll:
		x.claim.Release()
		x.claim = nil
	case machine.GivesPartitions:
		return x.claim.LetGoOfPartitions(a.Device)
	}
	return nil
}

// writesLater reports whether a step writes to the content of the partition that the
// kernel was just told of.
func (x *executor) writesLater(a machine.Action) bool {
	return slices.ContainsFunc(targetsOf(x.deed.Steps), func(t machine.Target) bool {
		return t.Hold == machine.HoldContent && x.name(t.Device) == a.Device && t.Start >= a.Start && t.Start < a.Start+a.Size
	})
}

// perform has the machine do it. What only the next boot brings about is no
// failure: the deed says so, and so does the exit code.
func (x *executor) perform(ctx context.Context, a machine.Action) error {
	err := x.machine.Do(ctx, x.look, a)
	var short *machine.ShortError
	if errors.As(err, &short) {
		x.deed.Remarks = append(x.deed.Remarks, short.Error())
		return x.log.line(remark, 0, short.Error())
	}
	var later *machine.LaterError
	if errors.As(err, &later) {
		x.deed.Later = append(x.deed.Later, later.Error())
		return x.log.line(remark, 0, later.Error())
	}
	return err
}

// inverse inverts what was done in this boot and holds still, as the verb's row says; partitions in
// the kernel follow the table.
func (acting) inverse(ctx context.Context, u *Undoing, _ int, s draft.Step) error {
	a := bodyOf[*draft.Acting](s).Action
	v, err := u.Now(ctx)
	if err != nil {
		return err
	}
	a = a.With(u.Names)
	if a.Lasts() {
		return u.lasting(ctx, v, a)
	}
	inverse, ok := a.Inverse()
	// What a boot did since, by the line that the deed wrote, is the deed's where all of it goes.
	others := v.Machine.BootID != u.Deed.BootID && !u.whole(v, a.Device)
	if !ok || others || a.Back() == machine.BackByItself || !machine.Holds(v, a) {
		return nil
	}
	if err := machine.Room(v, inverse); err != nil {
		return err
	}
	// What waits for the first access may be mounted by now: taken away alone, the mount would stay.
	if use, mounted := v.MountedAt(a.Where); mounted && use.Node == a.Device && inverse.Frees() && !inverse.Tree() {
		if err := u.unmount(ctx, use); err != nil {
			return err
		}
	}
	switch a.Back() {
	case machine.BackBehind:
		u.Later = append(u.Later, inverse)
	case machine.BackStarted:
		u.Starts = append(u.Starts, inverse)
	default:
		return u.Stage.Tell(ctx, inverse)
	}
	return nil
}

// lasting gives a label or an identifier back, in whatever boot: it lies on the device, not in
// the kernel alone.
func (u *Undoing) lasting(ctx context.Context, v *inventory.Inventory, a machine.Action) error {
	inverse, _ := a.Inverse()
	switch {
	case machine.Holds(v, inverse):
		return nil
	case !machine.Holds(v, a) && !u.Over:
		return way.To(fmt.Errorf("deed %s: %w: %q is no longer so", u.Deed.ID, ErrSince, a),
			way.Undo(way.N(u.Deed.Number), "--over-later-writes", "--draft"))
	}
	return u.Stage.Tell(ctx, inverse)
}
