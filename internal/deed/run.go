package deed

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strconv"

	"fundus/core/block"
	"fundus/core/inventory"
	"fundus/core/progress"
	"fundus/core/quantity"
	"fundus/internal/machine"
)

// executor carries the strokes of one deed out, forward or back.
type executor struct {
	deed          *Deed
	machine       machine.Machine
	store         *Store
	claim         *machine.Claim
	names         map[string]string    // device as recorded -> device as it is called now; nil: as recorded
	look          *inventory.Inventory // at the machine, for actions that follow each other
	seen          *inventory.Inventory // when it was planned; nil in a recovery
	bootID        string
	log           *journal
	after, before *imageReader
	sink          progress.Sink
	work          string // what is done, in words; "" for the deed's title
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

// quick is how much is taken back at once after an interruption.
const quick = 32 * quantity.MiB

// commit goes forward from the start. After an error or an interruption it goes
// back, as far as there is a way; where that fails too, the deed stays unfinished.
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
	if errors.Is(err, block.ErrPowerLost) || x.deed.Forward || ctx.Err() != nil && x.done > quick {
		return &MidwayError{x.deed.ID, err} // whoever interrupts does not wait until as much again is written
	}
	forward, back := x.retreat(context.WithoutCancel(ctx), at)
	switch {
	case back != nil:
		return &MidwayError{x.deed.ID, errors.Join(err, back)}
	case forward:
		return x.log.line(remark, 0, "completed at the second attempt, since there was no way back: "+err.Error())
	}
	return &TakenBackError{x.deed.ID, err}
}

// retreat takes the strokes back from the given one on. Where one that has no way back
// had begun, it goes back to that, and then forward to the end: what stands before it
// must not change any more.
func (x *executor) retreat(ctx context.Context, from int) (forward bool, err error) {
	last, err := x.noWayBack(ctx, from)
	if err != nil {
		return false, err
	}
	if err := x.back(ctx, from, last+1); err != nil {
		return false, err
	}
	if last < 0 {
		x.deed.State = TakenBack
		return false, x.log.line(takenBack, 0, "")
	}
	if _, err := x.forward(ctx, last+1); err != nil {
		return true, err
	}
	x.deed.State = Done
	return true, nil
}

// noWayBack is the newest stroke up to the given one that has begun and has no way back;
// -1 without one. Of the given one, which may have failed, the machine is asked whether
// it came about.
func (x *executor) noWayBack(ctx context.Context, from int) (int, error) {
	for i := min(from, len(x.deed.Strokes)-1); i >= 0; i-- {
		step := x.deed.stepOf(i)
		if !step.NoWayBack {
			continue
		}
		if i < from {
			return i, nil
		}
		if came, err := carrierOf(step).came(ctx, x, step); err != nil || came {
			return i, err
		}
	}
	return -1, nil
}

// forward carries out the strokes from the given one. On an error it says which
// stroke failed.
func (x *executor) forward(ctx context.Context, from int) (failed int, err error) {
	x.weigh(x.deed.Strokes[from:])
	for i := from; i < len(x.deed.Strokes); i++ {
		if err := ctx.Err(); err != nil {
			return i - 1, fmt.Errorf("interrupted: %w", err)
		}
		x.moment(i, progress.Begin)
		way := x.way(i, true)
		if err := x.log.line(beginForward, i, string(x.deed.stepOf(i).Kind())); err != nil {
			return i, err
		}
		if err := x.do(ctx, i, way); err != nil {
			return i, err
		}
		if err := x.log.line(endForward, i, ""); err != nil {
			return i, err
		}
		x.moment(i, progress.End)
	}
	if x.indirect {
		if err := x.log.line(remark, 0, "read back without direct I/O: clean pages were dropped instead"); err != nil {
			return len(x.deed.Strokes) - 1, err
		}
	}
	return len(x.deed.Strokes), x.log.line(completed, 0, "")
}

// weigh counts anew how many bytes are to be written.
func (x *executor) weigh(strokes []StrokeRecord) {
	x.done, x.total = 0, 0
	for _, s := range strokes {
		x.total += quantity.Bytes(x.deed.weight(s))
	}
}

// moment tells that the step of a stroke begins with it, or has ended with it: a step that writes
// between a fence and its last sector has several.
func (x *executor) moment(stroke int, m progress.Moment) {
	step, beside := x.deed.Strokes[stroke].Step, stroke-1
	if m == progress.End {
		beside = stroke + 1
	}
	if beside >= 0 && beside < len(x.deed.Strokes) && x.deed.Strokes[beside].Step == step {
		return
	}
	x.sink.Tell(progress.Report{
		Work:   x.deed.Steps[step].Title,
		Done:   x.done,
		Total:  x.total,
		Deed:   x.deed.ID,
		Step:   step + 1,
		Steps:  len(x.deed.Steps),
		Moment: m,
	})
}

// back takes the strokes back from the given one down to another.
func (x *executor) back(ctx context.Context, from, to int) error {
	if from >= to {
		x.weigh(x.deed.Strokes[to : from+1])
	}
	x.work = fmt.Sprintf("taking back deed %d", x.deed.Number)
	for i := from; i >= to; i-- {
		way := x.way(i, false)
		if err := x.log.line(beginBack, i, ""); err != nil {
			return err
		}
		if err := x.do(ctx, i, way); err != nil {
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
	x.reloads = false
	return nil
}

func (x *executor) do(ctx context.Context, stroke int, way Way) error {
	c := carrierOf(x.deed.stepOf(stroke))
	if !c.looks() {
		x.look = nil // it is about to be out of date
	}
	return c.carry(ctx, x, stroke, way)
}

// way is how a stroke stands that is to be carried: as the log has it.
func (x *executor) way(stroke int, forward bool) Way {
	way := Way{Forward: forward, Set: func(mark int64) error {
		return x.log.line(marked, stroke, strconv.FormatInt(mark, 10))
	}}
	if at := x.log.at; at.next == stroke && at.torn {
		way.Torn, way.Mark = true, at.mark
	}
	return way
}

// device is the claimed disk. Where the claim was given up for an action, what the
// remaining steps write to is claimed again: from the step on, or back to the first.
func (x *executor) device(ctx context.Context, disk string, step int, forward bool) (block.Device, error) {
	if x.claim == nil {
		v, err := x.machine.Inventory(ctx)
		if err != nil {
			return nil, err
		}
		claim, err := x.machine.Claim(ctx, v, claimable(v, x.deed.ahead(step, forward), x.names, forward))
		if err != nil {
			return nil, err
		}
		x.claim = claim
	}
	return x.claim.Device(x.name(disk))
}

// name is what a device is called now.
func (x *executor) name(was string) string { return nameOf(x.names, was) }
