package deed

import (
	"context"
	"fmt"

	"fundus/core/block"
	"fundus/core/quantity"
	"fundus/internal/draft"
	"fundus/internal/machine"
)

// writing carries bytes onto devices.
type writing struct{}

func (writing) weight(d *Deed, s StrokeRecord) (n int64) {
	for _, r := range d.runs[s.After[0]:s.After[1]] {
		n += r.Len
	}
	return n
}

func (writing) grade(s draft.Step) draft.Grade {
	if s.Write.Target.Hold == machine.HoldTable {
		return draft.Exactly
	}
	return draft.UntilMounted
}

// record keeps the bytes after the stroke, and those before it unless the deed can only
// be completed.
func (writing) record(r *recorder, s draft.Stroke) (StrokeRecord, error) {
	out := StrokeRecord{Step: s.Step, Role: s.Role}
	merged := mergeExtents(s.Extents)
	add := func(w *imageWriter, view func(e block.Extent) (err error)) error {
		for _, e := range merged {
			if err := view(e); err != nil {
				return err
			}
		}
		w.next()
		return nil
	}
	d := r.deed
	out.After[0] = len(d.runs)
	err := add(r.after, func(e block.Extent) (err error) {
		d.runs, err = r.after.add(d.runs, s.After, e.Off, e.Len, e.Zero)
		return err
	})
	out.After[1], out.Before[0] = len(d.runs), len(d.runs)
	if err == nil && !d.Forward {
		err = add(r.before, func(e block.Extent) (err error) {
			d.runs, err = r.before.add(d.runs, s.Before, e.Off, e.Len, false)
			return err
		})
	}
	out.Before[1] = len(d.runs)
	if err == nil && len(d.runs) > maxRuns {
		err = ErrLimit
	}
	return out, err
}

func (writing) carry(ctx context.Context, x *executor, u StrokeRecord, forward bool) error {
	disk := x.deed.Steps[u.Step].Write.Target.Disk
	dev, err := x.device(ctx, disk, u.Step, forward)
	if err != nil {
		return err
	}
	runs, image := x.deed.runs[u.Before[0]:u.Before[1]], x.before
	if forward {
		runs, image = x.deed.runs[u.After[0]:u.After[1]], x.after
	}
	all := runs
	for len(runs) > 0 {
		if err := ctx.Err(); err != nil {
			return fmt.Errorf("interrupted: %w", err)
		}
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
			return fmt.Errorf("%s: %w", disk, err)
		}
		runs = runs[count:]
		x.done += quantity.Bytes(n)
		x.sink.Send(x.deed.Title, x.done, x.total)
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
