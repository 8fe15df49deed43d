package place

import (
	"fmt"

	"fundus/core/extent"
	"fundus/core/quantity"
	"fundus/core/table"
)

// Behind is the gap right behind the partition, in sectors; for a logical one it ends
// with the extended partition, in which the next header may stand.
func Behind(m *table.Table, part table.Partition) extent.Span {
	for _, gap := range m.Gaps() {
		if gap.Start == part.Span.End() && m.Inside(gap) == (part.Role == table.Logical) {
			return gap
		}
	}
	return extent.Span{Start: part.Span.End()}
}

// Resized is another size of a partition, as it was asked for: Size, or By ("+4GiB",
// "-10%") where that is not empty.
type Resized struct {
	Size quantity.Size
	By   string
}

// Bytes is the new size of a partition that begins at byte start and has now bytes, where
// most are to be had. It is rounded up to the alignment step; the last step of a disk may
// be a short one. The note says a rounding, and is empty without one.
//
// Up, not down: whoever asks for a size wants at least that. Where the step above does not
// fit but the size itself does, the size is taken to the sector.
func (r Resized) Bytes(start, now, most, sector, step quantity.Bytes) (size quantity.Bytes, note string, err error) {
	if size, err = r.asked(now, most, sector); err != nil {
		return 0, "", err
	}
	if size <= 0 {
		return 0, "", fmt.Errorf("%d bytes: %w: a partition has at least a sector", size, table.ErrPlace)
	}
	rounded, ok := size.Up(step)
	if !ok || rounded > most && size <= most {
		rounded = size / sector * sector
		if down := (start + most) / step * step; down > start && r.By == "" && r.Size.Form == quantity.Max {
			rounded = down - start
		}
	}
	if rounded != size {
		note = fmt.Sprintf("%d bytes rounded to %v (%d bytes), for the alignment step of %v", size, rounded, rounded, step)
	}
	return rounded, note, nil
}

// asked is the size before it is rounded.
func (r Resized) asked(now, most, sector quantity.Bytes) (quantity.Bytes, error) {
	switch {
	case r.By == "" && r.Size.Form == quantity.Max:
		return most, nil
	case r.By == "":
		return r.Size.Resolve(sector, most) // a share is one of the room that there is: said twice it is the same
	}
	grow, amount, err := quantity.ParseChange(r.By)
	if err != nil {
		return 0, err
	}
	by, err := amount.Resolve(sector, now)
	if err != nil {
		return 0, err
	}
	if !grow {
		by = -by
	}
	return now + by, nil
}
