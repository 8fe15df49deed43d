package deed

import (
	"context"
	"errors"
	"slices"

	"fundus/internal/draft"
	"fundus/internal/machine"
)

// acting carries actions of the running system.
type acting struct{}

func (acting) record(_ *recorder, s draft.Stroke) (StrokeRecord, error) {
	return StrokeRecord{Step: s.Step}, nil
}

func (acting) weight(*Deed, StrokeRecord) int64 { return 0 }

func (acting) grade(s draft.Step) draft.Grade {
	if s.Action.Lasts() {
		return draft.Exactly
	}
	return draft.Nothing
}

// foreign has nothing to lose: whether an action holds is asked when it is its turn.
func (acting) foreign(context.Context, *executor) error { return nil }

// carry carries an action out, unless it holds already. Back, it inverts the
// action only where it holds and was done in this boot.
func (acting) carry(ctx context.Context, x *executor, s StrokeRecord, forward bool) error {
	recorded := *x.deed.Steps[s.Step].Action
	a := recorded.With(x.names)
	if a.Verb == machine.ReloadUnits && !forward {
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

// give lets go of what the kernel wants for itself: by what is done, which on the way back
// is the inverse of what was recorded.
func (x *executor) give(a machine.Action) error {
	switch a.Gives() {
	case machine.GivesAll:
		x.claim.Release()
		x.claim = nil
	case machine.GivesPartitions:
		return x.claim.LetGoOfPartitions(a.Disk)
	}
	return nil
}

// writesLater reports whether a step writes to the content of the partition that the
// kernel was just told of.
func (x *executor) writesLater(a machine.Action) bool {
	return slices.ContainsFunc(x.deed.Steps, func(s draft.Step) bool {
		return s.Write != nil && s.Write.Target.Hold == machine.HoldContent && x.name(s.Write.Target.Disk) == a.Disk &&
			s.Write.Target.Start >= a.Start && s.Write.Target.Start < a.Start+a.Size
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
