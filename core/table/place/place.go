package place

import (
	"errors"
	"fmt"

	"fundus/core/extent"
	"fundus/core/quantity"
	"fundus/core/table"
)

// ErrGap is a gap that is not there.
var ErrGap = errors.New("no such gap")

// Wanted is where a new partition is to go, as it was asked for.
type Wanted struct {
	Size quantity.Size // none, or max: all that the gap has
	At   quantity.Size // where it begins; none: wherever it fits
	To   quantity.Size // the byte or sector that it ends before, in place of a size; none: by its size
	In   int           // in which gap, from 1; 0: wherever it fits
}

// Placed is where it goes.
type Placed struct {
	Span  extent.Span // sectors
	Notes []string    // every rounding
}

// Find works out where a new partition goes. Step is the alignment step in bytes, a
// multiple of the table's sector. Errors: table.ErrNoRoom in a RoomError, ErrGap,
// extent.ErrOverlap, table.ErrPlace for no bytes, and those of sizes.
func (w Wanted) Find(m *table.Table, step quantity.Bytes) (Placed, error) {
	var p Placed
	room, fixed, err := w.room(m, step, &p)
	if err != nil {
		return p, err
	}
	if room.Count == 0 {
		return p, &table.RoomError{Err: table.ErrNoRoom}
	}
	if !w.To.IsZero() {
		p.Span, err = w.until(m, room, fixed, step, &p)
		return p, err
	}
	whole, _ := quantity.Count(room.Count).Times(m.Sector)
	size, err := w.bytes(m.Sector, whole, fixed, &p)
	if err != nil {
		return p, err
	}
	p.Span.Start = room.Start
	rounded, ok := size.Up(step)
	if !ok {
		return p, &table.RoomError{Wanted: size, Largest: whole, Err: table.ErrNoRoom}
	}
	switch {
	case !fixed:
		if p.Span, err = m.Place(size, step); err != nil {
			return p, err
		}
	case size == 0:
		p.Span.Count = room.Count
	case uint64(rounded/m.Sector) > room.Count:
		return p, &table.RoomError{Wanted: size, Largest: whole, Err: table.ErrNoRoom}
	default:
		p.Span.Count = uint64(rounded / m.Sector)
	}
	if got, _ := quantity.Count(p.Span.Count).Times(m.Sector); size > 0 && got != size {
		p.note("%d bytes rounded up to %v (%d bytes), a multiple of the alignment step of %v", size, got, got, step)
	}
	return p, nil
}

func (p *Placed) note(format string, args ...any) {
	p.Notes = append(p.Notes, fmt.Sprintf(format, args...))
}

// room is where the partition may lie: in the gap that is named, behind the place
// that is named, or in the largest one, and then it is not fixed.
func (w Wanted) room(m *table.Table, step quantity.Bytes, p *Placed) (room extent.Span, fixed bool, err error) {
	rooms := m.Rooms(step)
	switch {
	case !w.At.IsZero() && w.In != 0:
		return room, true, fmt.Errorf("--at and --in are two answers to one question: %w", ErrGap)
	case w.In != 0:
		if w.In < 1 || w.In > len(rooms) {
			return room, true, fmt.Errorf("--in=%d: %w: gaps that take a partition: %d", w.In, ErrGap, len(rooms))
		}
		return rooms[w.In-1], true, nil
	case w.At.IsZero():
		return m.Largest(step), false, nil
	}
	room, err = w.behind(m, step, p)
	return room, true, err
}

// behind is the rest of the gap from the place that was asked for.
//
// Bytes are rounded up to the step, since a partition between two steps is slow for ever;
// sectors are taken as they are, since whoever counts them has a reason, such as an old
// layout that is to come back.
func (w Wanted) behind(m *table.Table, step quantity.Bytes, p *Placed) (room extent.Span, err error) {
	if w.At.Form == quantity.Percent || w.At.Form == quantity.Max {
		return room, fmt.Errorf("--at=%s: %w: a place is counted from the beginning of the disk, such as 20GiB", w.At, ErrGap)
	}
	at, err := w.At.Resolve(m.Sector, 0)
	if err != nil {
		return room, fmt.Errorf("--at: %w", err)
	}
	aligned, ok := at.Up(step)
	if w.At.Form == quantity.InSector { // whoever counts sectors means them
		aligned, ok = at, true
	}
	if aligned != at {
		p.note("byte %d rounded up to %d, a multiple of the alignment step of %v", at, aligned, step)
	}
	first := uint64(aligned / m.Sector)
	here := extent.Span{Start: first, Count: 1}
	for _, gap := range m.Gaps() {
		inside := m.Room(gap, m.Sector) // every sector of it
		if ok && inside.Contains(here) && m.Open(gap) {
			rest := extent.Span{Start: first, Count: inside.End() - first}
			if w.At.Form != quantity.InSector {
				rest.Count = rest.Count / uint64(step/m.Sector) * uint64(step/m.Sector)
			}
			return rest, nil
		}
	}
	for _, o := range m.Parts {
		if o.Role != table.Extended && o.Span.Contains(here) {
			return room, fmt.Errorf("--at=%s: sector %d: %w: partition %d has %v", w.At, first, extent.ErrOverlap, o.Number, o.Span)
		}
	}
	return room, fmt.Errorf("--at=%s: sector %d: %w that takes a partition there; fundus partition list shows the gaps", w.At, first, ErrGap)
}

// until is the room up to the end that was asked for.
//
// Bytes are rounded up to the step, as sizes are, so that what follows begins on it; where
// the room ends between the two, with the room.
func (w Wanted) until(m *table.Table, room extent.Span, fixed bool, step quantity.Bytes, p *Placed) (extent.Span, error) {
	switch {
	case !fixed || !w.Size.IsZero():
		return room, fmt.Errorf("--to=%s: %w: the end belongs to a beginning, --at, and takes the place of a size", w.To, table.ErrPlace)
	case w.To.Form == quantity.Max:
		return room, nil
	case w.To.Form == quantity.Percent:
		return room, fmt.Errorf("--to=%s: %w: a place is counted from the beginning of the disk, such as 20GiB", w.To, table.ErrPlace)
	}
	asked, err := w.To.Resolve(m.Sector, 0)
	if err != nil {
		return room, fmt.Errorf("--to: %w", err)
	}
	start, _ := quantity.Count(room.Start).Times(m.Sector)
	most, _ := quantity.Count(room.Count).Times(m.Sector)
	end, ok := asked.Up(step)
	if w.To.Form == quantity.InSector {
		end, ok = asked, true
	}
	// The room may end between two steps, before a partition that somebody else placed.
	if end > start+most {
		end = start + most
	}
	switch {
	case asked <= start:
		return room, fmt.Errorf("--to=%s: %w: byte %d is not after the beginning, byte %d", w.To, table.ErrPlace, asked, start)
	case !ok || asked > end:
		return room, &table.RoomError{Wanted: asked - start, Largest: most, Err: table.ErrNoRoom}
	case end != asked:
		p.note("end at byte %d becomes %d, on the alignment step of %v: %v (%d bytes) in all", asked, end, step, end-start, end-start)
	}
	return extent.Span{Start: room.Start, Count: uint64((end - start) / m.Sector)}, nil
}

// bytes is the size in bytes, 0 for all that there is.
//
// A share is of the gap that the partition goes into, where that is named, else of the
// largest one, and the note says of what.
func (w Wanted) bytes(sector, whole quantity.Bytes, fixed bool, p *Placed) (quantity.Bytes, error) {
	s := w.Size
	if s.IsZero() || s.Form == quantity.Max {
		return 0, nil
	}
	size, err := s.Resolve(sector, whole)
	if err != nil {
		return 0, err
	}
	if size <= 0 {
		return 0, fmt.Errorf("%s: %w: a partition of no bytes", s, table.ErrPlace)
	}
	if s.Bare {
		p.note("%s is read as binary: %v = %s", s, size, size.SI())
	}
	if s.Form == quantity.Percent {
		of := "the largest free gap"
		if fixed {
			of = "the gap"
		}
		p.note("%s of %s, %v", s, of, whole)
	}
	return size, nil
}
