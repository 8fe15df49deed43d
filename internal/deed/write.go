package deed

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/progress"
	"fundus/core/quantity"
	"fundus/core/way"
	"fundus/internal/draft"
	"fundus/internal/machine"
)

// writing carries bytes onto devices.
type writing struct{ plain }

func (writing) read(data []byte) (draft.Body, error) { return decoded[draft.Writing](data) }

func (writing) covers(d *Deed, s StrokeRecord) (device string, spans []extent.Span) {
	for _, r := range d.runs[s.Bytes.After[0]:s.Bytes.After[1]] {
		spans = append(spans, extent.Span{Start: uint64(r.Off), Count: uint64(r.Len)})
	}
	return bodyOf[*draft.Writing](d.Steps[s.Step]).Target.Device, spans
}

func (writing) names(s draft.Step) []string {
	return []string{bodyOf[*draft.Writing](s).Target.Device}
}

func (writing) targets(s draft.Step) []machine.Target {
	return []machine.Target{bodyOf[*draft.Writing](s).Target}
}

func (writing) shown(s draft.Step) Shown {
	w := bodyOf[*draft.Writing](s)
	return Shown{Bytes: w.Bytes, Device: w.Target.Device, Phases: w.Phases, Fenced: w.Fence != nil}
}

func (c writing) touches(a, b sighted) Touch { return onBytes(c.targets(a.Step), a, b) }

// onBytes compares what a step writes to with what the other one does.
func onBytes(targets []machine.Target, a, b sighted) Touch {
	for _, ta := range targets {
		for _, tb := range TargetsOf(b.Step) {
			da, db := a.in.device(ta.Device), b.in.device(tb.Device)
			if da.On(db) || db.On(da) {
				return Under // where on it, nobody knows
			}
			if da.Identity.SameDisk(db.Identity) && ta.Span().Overlaps(tb.Span()) {
				return Under
			}
		}
	}
	return Apart
}

func (writing) grade(s draft.Step) draft.Grade {
	if bodyOf[*draft.Writing](s).Target.Hold == machine.HoldTable {
		return draft.Exactly
	}
	return draft.UntilMounted
}

// record keeps the bytes after the stroke, and those before it unless the deed can only
// be completed. What was read for that is not read again for the code; of a fence the code has
// another one's bytes.
func (writing) record(r *recorder, s draft.Stroke) (StrokeRecord, error) {
	out, d, b := &BytesRecord{Role: s.Bytes.Role}, r.deed, s.Bytes
	keep := func(w *imageWriter, view io.ReaderAt) (at [2]int, sums [][]byte, err error) {
		var runs []run
		sums, err = r.reader.Each(b, view, func(at block.Extent, part []byte) (err error) {
			if err = r.ctx.Err(); err == nil {
				runs, err = w.put(runs, view, at, part)
			}
			return err
		})
		if err == nil {
			runs, err = w.ended(runs, view)
		}
		at[0] = len(d.runs)
		d.runs = append(d.runs, runs...)
		at[1] = len(d.runs)
		w.next()
		return at, sums, err
	}
	var sums draft.Sums
	var err error
	out.After, sums.After, err = keep(r.after, b.After)
	out.Before = [2]int{len(d.runs), len(d.runs)}
	if err == nil && !d.Forward {
		out.Before, sums.Before, err = keep(r.before, b.Before)
	}
	if err == nil && len(d.runs) > maxRuns {
		err = ErrLimit
	}
	if b.Role == draft.WritePart {
		r.sums[len(d.Strokes)] = sums
	}
	return StrokeRecord{Step: s.Step, Bytes: out}, err
}

func (writing) carry(ctx context.Context, x *executor, number int, way Way) error {
	s := x.deed.Strokes[number]
	disk := bodyOf[*draft.Writing](x.deed.Steps[s.Step]).Target.Device
	dev, err := x.device(ctx, disk, s.Step, way.Forward)
	if err != nil {
		return err
	}
	runs, image := x.deed.runs[s.Bytes.Before[0]:s.Bytes.Before[1]], x.before
	if way.Forward {
		runs, image = x.deed.runs[s.Bytes.After[0]:s.Bytes.After[1]], x.after
	}
	all := runs
	for len(runs) > 0 {
		if err := ctx.Err(); err != nil {
			return fmt.Errorf("interrupted: %w", err)
		}
		data, n, count, err := gather(runs, image, most, x.buf)
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
			return fmt.Errorf("%s: %w", disk, err)
		}
		runs = runs[count:]
		x.done += quantity.Bytes(n)
		x.sink.Tell(progress.Report{
			Work:  cmp.Or(x.work, x.deed.Title),
			Done:  x.done,
			Total: x.total,
			Deed:  x.deed.ID,
			Step:  s.Step + 1,
			Steps: len(x.deed.Steps),
		})
	}
	if err := dev.Sync(); err != nil {
		return fmt.Errorf("%s: sync: %w", disk, err)
	}
	if x.spare == nil {
		x.spare = newSpare()
	}
	direct, err := readBack(ctx, dev, all, image, x.spare)
	x.indirect = x.indirect || !direct
	if err != nil {
		return fmt.Errorf("%s: %w", disk, err)
	}
	return nil
}

// most is how many bytes are written together.
const most = 1 << 20

// gather joins the first run with those that follow it on the device, up to so many
// bytes. The data of zeros is nil; other data is put into the buffer, or into a
// larger one.
func gather(runs []run, image *imageReader, limit int64, buf []byte) (data []byte, n int64, count int, err error) {
	first := runs[0]
	if first.Zero {
		return nil, first.Len, 1, nil
	}
	for _, r := range runs {
		if r.Zero || r.Off != first.Off+n || n+r.Len > limit {
			break
		}
		n, count = n+r.Len, count+1
	}
	if int64(cap(buf)) < n {
		buf = make([]byte, 0, n)
	}
	data = buf[:0]
	for _, r := range runs[:count] {
		part, err := image.read(r)
		if err != nil {
			return nil, 0, 0, err
		}
		data = append(data, part...)
	}
	return data, n, count, nil
}

// inverse restores the phases of a step in reverse. Its own fences are not
// restored, but the sectors beneath them are.
func (writing) inverse(ctx context.Context, u *Undoing, number int, s draft.Step) error {
	w := bodyOf[*draft.Writing](s)
	target := w.Target
	target.Device = u.Names[target.Device]
	dev, err := u.Stage.Open(ctx, target.Device)
	if err != nil {
		return err
	}
	at, err := u.Former.Changed(ctx, dev, number)
	if err != nil {
		return err
	}
	if at >= 0 {
		err := u.since(ctx, target, at)
		// What the deed put on empty room and into use goes with all that is on it by now.
		whole := u.Deed.Undo == draft.ByName && target.Hold == machine.HoldContent
		if !u.Over && !whole {
			return err
		}
		if whole {
			u.Note("what was written to %s outside of the places that are restored stays there, as free space", target.Device)
		} else {
			u.Warn("%v; it is written over: fundus verify says afterwards whether all fits", err)
		}
		if err := u.covered(ctx, target); err != nil {
			return err
		}
	}
	// What goes back into a partition waits for the kernel to know it: of a table that came back
	// with this undo it does not yet.
	if target.Hold == machine.HoldContent {
		if err := u.Stage.TellKernel(ctx, target.Device); err != nil {
			return err
		}
	}
	return u.Write(ctx, "restore: "+s.Title, target, func(dev block.Device) error {
		ended := func() error { return nil } // a fenced step is one whole
		if w.Fence == nil {
			ended = dev.Sync // each phase of a table must stay one
		}
		err := u.Former.Back(number, func(off, n int64, data []byte) error { return put(dev, off-int64(target.Start), n, data) }, ended)
		return errors.Join(err, dev.Sync())
	})
}

// covered names what is lost where something was written since: what stands there now, with all
// that it holds, by its own name.
func (u *Undoing) covered(ctx context.Context, t machine.Target) error {
	v, err := u.Now(ctx)
	if err != nil {
		return err
	}
	some := false
	for _, n := range v.Family(t.Device) {
		c, ok := n.Content()
		if !ok || c.Class == fs.Table || c.Class == fs.Fence || n.Start >= t.Start+t.Size || t.Start >= n.Start+n.Size {
			continue
		}
		loss, err := u.LossOf(ctx, n)
		if err != nil {
			return err
		}
		if loss == nil || slices.ContainsFunc(u.Losses, func(o draft.Loss) bool { return o.Node == loss.Node }) {
			continue
		}
		loss.What += ", with all that was written there since"
		loss.Accept = append(loss.Accept, u.Deed.Code, u.Deed.ID)
		u.Losses, some = append(u.Losses, *loss), true
	}
	if !some {
		u.Losses = append(u.Losses, draft.Loss{
			Node:   t.Device,
			What:   "what was written since",
			Name:   u.Deed.Code,
			Accept: []string{u.Deed.ID},
		})
	}
	return nil
}

func put(dev block.Device, off, n int64, data []byte) error {
	if data == nil {
		return dev.WriteZeroes(off, n)
	}
	_, err := dev.WriteAt(data, off)
	return err
}

func (u *Undoing) since(ctx context.Context, t machine.Target, at int64) error {
	inside := at - int64(t.Start)
	place := fmt.Sprintf("byte %d of %s", at, t.Device)
	if t.Start > 0 {
		place = fmt.Sprintf("%s (byte %d of the partition)", place, inside)
	}
	why := ""
	v, err := u.Now(ctx)
	if err != nil {
		return err
	}
	for _, n := range v.Family(t.Device) {
		c, ok := n.Content()
		inside := at - int64(n.Start)
		if ok && inside >= int64(c.Super.Start) && inside < int64(c.Super.End()) {
			why = fmt.Sprintf(", the superblock of the %s on %s: it was mounted for writing", c.Kind, n.Name)
		}
	}
	return way.To(fmt.Errorf("deed %s: %w: %s%s; what was written since would be lost", u.Deed.ID, ErrSince, place, why),
		way.Undo(way.N(u.Deed.Number), "--over-later-writes", "--draft"))
}
