package deed

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/internal/machine"
)

// Errors of looking before recovery acts.
var (
	ErrForeign = errors.New("somebody wrote there since the deed was cut short")
	ErrFenced  = errors.New("what is there is unfinished and fenced")
)

// piece is how finely a device is compared: no medium tears inside of it.
const piece = 512

// known is a run of bytes that the deed found or wrote, by a stroke; without an image it may hold
// anything.
type known struct {
	run
	image  *imageReader
	stroke int
}

// foreignOn looks, before anything is done, for bytes that are neither those of
// before nor those of after any stroke that has the place: somebody else wrote
// them, and going on would destroy that. It gives the first such byte, or -1. Of a deed
// that kept nothing from before, that can be told where it has written already.
func (x *executor) foreignOn(ctx context.Context, dev block.Device, disk string) (int64, error) {
	var all []known
	for i, s := range x.deed.Strokes {
		device, spans := carrierOf(x.deed.stepOf(i)).covers(x.deed, s)
		if device != disk || x.deed.Forward && i >= x.deed.at.next {
			continue
		}
		if s.Bytes == nil { // what comes there its carrier knows
			for _, p := range spans {
				all = append(all, known{run{Off: int64(p.Start), Len: int64(p.Count)}, nil, i})
			}
			continue
		}
		for _, r := range x.deed.runs[s.Bytes.Before[0]:s.Bytes.Before[1]] {
			all = append(all, known{r, x.before, i})
		}
		for _, r := range x.deed.runs[s.Bytes.After[0]:s.Bytes.After[1]] {
			all = append(all, known{r, x.after, i})
		}
	}
	if x.deed.Forward && x.deed.at.torn {
		all = slices.DeleteFunc(all, func(k known) bool { return x.deed.overlaps(x.deed.at.next, k.run) })
	}
	return sweep(ctx, dev, all, false)
}

// overlaps reports whether the stroke writes to any byte of the run.
func (d *Deed) overlaps(stroke int, r run) bool {
	_, spans := carrierOf(d.stepOf(stroke)).covers(d, d.Strokes[stroke])
	return slices.ContainsFunc(spans, extent.Span{Start: uint64(r.Off), Count: uint64(r.Len)}.Overlaps)
}

// sweep goes over the device where anything is known of it, and gives the first byte
// that fits nothing of that, or -1: with newest set it must fit what the newest stroke
// left there. What cannot be read cannot be told, and passes.
func sweep(ctx context.Context, dev block.Device, all []known, newest bool) (int64, error) {
	slices.SortFunc(all, func(a, b known) int { return cmp.Compare(a.Off, b.Off) })
	var active []known
	var buf []byte
	for at := int64(0); len(all) > 0 || len(active) > 0; {
		if len(active) == 0 {
			at = all[0].Off
		}
		end := at // of what is known without a gap, up to most bytes
		for _, k := range active {
			end = max(end, k.Off+k.Len)
		}
		for len(all) > 0 && all[0].Off <= end && all[0].Off < at+most {
			end = max(end, all[0].Off+all[0].Len)
			active, all = append(active, all[0]), all[1:]
		}
		end = min(end, at+most)
		if int64(len(buf)) < end-at {
			buf = make([]byte, end-at)
		}
		if odd, err := odd(dev, at, buf[:end-at], active, newest); odd >= 0 || err != nil {
			return odd, err
		}
		active = slices.DeleteFunc(active, func(k known) bool { return k.Off+k.Len <= end })
		if err := ctx.Err(); err != nil {
			return -1, err
		}
		at = end
	}
	return -1, nil
}

// odd compares the bytes from at, into the buffer, with whatever is known of
// them.
func odd(dev block.Device, at int64, now []byte, active []known, newest bool) (int64, error) {
	if err := block.ReadFull(dev, now, at); err != nil {
		if newest {
			return -1, err
		}
		return -1, nil
	}
	var fits [most / piece]bool
	var zeros [piece]byte
	var first [most / piece]int // differing byte of a piece, where one thing is wanted
	if newest {                 // the last one to be looked at decides
		slices.SortStableFunc(active, func(a, b known) int { return cmp.Compare(a.stroke, b.stroke) })
	}
	for _, k := range active {
		var data []byte
		if !k.Zero && k.image != nil {
			read, err := k.image.read(k.run)
			if err != nil {
				return -1, err
			}
			data = read
		}
		for off := max(k.Off, at); off < min(k.Off+k.Len, at+int64(len(now))); off += piece {
			i := (off - at) / piece
			got := now[off-at : off-at+piece]
			want := zeros[:]
			if data != nil {
				want = data[off-k.Off : off-k.Off+piece]
			}
			fits[i] = fits[i] && !newest || k.image == nil || bytes.Equal(got, want)
			for first[i] = 0; newest && !fits[i] && got[first[i]] == want[first[i]]; first[i]++ {
			}
		}
	}
	for i := range len(now) / piece {
		if !fits[i] {
			return at + int64(i)*piece + int64(first[i]), nil
		}
	}
	return -1, nil
}

// foreign refuses to go on over what somebody else wrote.
func (writing) foreign(ctx context.Context, x *executor) error {
	for _, t := range x.deed.Written() {
		dev, err := x.device(ctx, t.Name, 0, true)
		if errors.Is(err, machine.ErrUnclaimed) { // a step of the deed gives it free first
			if dev, err = x.machine.Open(ctx, x.name(t.Name)); err == nil {
				defer dev.Close()
			}
		}
		if err != nil {
			return err
		}
		at, err := x.foreignOn(ctx, dev, t.Name)
		if err != nil {
			return err
		}
		if at >= 0 {
			return fmt.Errorf("deed %s: byte %d of %s: %w; --as-it-is keeps what is there now, --over-later-writes replaces it",
				x.deed.ID, at, t.Name, ErrForeign)
		}
	}
	return nil
}

// asItIs ends the deed without touching anything, unless its fence stands. It
// does not count as done: what is there is not what it would have left, so that
// undo has nothing to go by.
func (x *executor) asItIs(v *inventory.Inventory) (*Outcome, error) {
	for _, n := range v.Nodes {
		for _, c := range n.Contents {
			if c.Class == fs.Fence && c.UUID == x.deed.ID {
				return nil, fmt.Errorf("deed %s: %s: %w; go one way or the other: --direction=back or forward",
					x.deed.ID, n.Name, ErrFenced)
			}
		}
	}
	if err := errors.Join(x.log.line(remark, 0, "ended as it is, on demand"), x.log.line(takenBack, 0, "")); err != nil {
		return nil, err
	}
	x.deed.State = TakenBack
	return &Outcome{Deed: x.deed, Direction: Stay}, nil
}
