// Package table is the common model of partition tables: what a table of any
// scheme says, and where a new partition would go. The schemes themselves are
// read and written by the packages below this one.
package table

import (
	"errors"
	"fmt"
	"slices"

	"fundus/core/extent"
	"fundus/core/quantity"
)

// Scheme names how a table is written.
type Scheme string

// The schemes.
const (
	GPT Scheme = "gpt"
	MBR Scheme = "mbr"
)

// Table is a partition table as plain data. Spans count logical sectors.
type Table struct {
	Scheme Scheme
	ID     string         // disk GUID, or the disk signature in hexadecimal
	Sector quantity.Bytes // logical sector
	Usable extent.Span    // where partitions may lie
	Slots  int            // how many entries there are
	Parts  []Partition    // by number
}

// Partition is one entry.
type Partition struct {
	Number     int
	Span       extent.Span // sectors
	Type       string      // GUID, or the type byte in hexadecimal
	UUID       string      // the PARTUUID as Linux prints it
	Name       string
	Attributes uint64
}

// Errors of Place.
var (
	ErrNoRoom  = errors.New("no free gap is large enough")
	ErrNoSlot  = errors.New("every entry of the table is taken")
	ErrNoEntry = errors.New("the table has no such partition")
)

// RoomError says how much would fit.
type RoomError struct {
	Wanted, Largest quantity.Bytes
	Err             error
}

func (e *RoomError) Error() string {
	return fmt.Sprintf("%v: %v (%d bytes) asked for, the largest free gap takes %v (%d bytes)",
		e.Err, e.Wanted, e.Wanted, e.Largest, e.Largest)
}

// Unwrap gives ErrNoRoom.
func (e *RoomError) Unwrap() error { return e.Err }

// Spans lists where the partitions lie, in sectors.
func (t *Table) Spans() []extent.Span {
	spans := make([]extent.Span, len(t.Parts))
	for i, p := range t.Parts {
		spans[i] = p.Span
	}
	return spans
}

// Gaps lists the free spans between the partitions, in sectors, unaligned.
func (t *Table) Gaps() []extent.Span { return extent.Gaps(t.Usable, t.Spans()) }

// Part finds a partition by its number.
func (t *Table) Part(number int) (Partition, bool) {
	i := slices.IndexFunc(t.Parts, func(p Partition) bool { return p.Number == number })
	if i < 0 {
		return Partition{}, false
	}
	return t.Parts[i], true
}

// FreeNumber is the lowest number without a partition.
func (t *Table) FreeNumber() (int, error) {
	for n := 1; n <= t.Slots; n++ {
		if _, taken := t.Part(n); !taken {
			return n, nil
		}
	}
	return 0, fmt.Errorf("%w: all %d", ErrNoSlot, t.Slots)
}

// Room is the aligned part of a gap, in sectors.
func (t *Table) Room(gap extent.Span, step quantity.Bytes) extent.Span {
	return gap.Inner(uint64(max(step/t.Sector, 1)))
}

// Largest is the largest aligned room on the disk, in sectors.
func (t *Table) Largest(step quantity.Bytes) extent.Span {
	var best extent.Span
	for _, gap := range t.Gaps() {
		if room := t.Room(gap, step); room.Count > best.Count {
			best = room
		}
	}
	return best
}

// Place finds where a new partition goes: the first gap that takes the size,
// which is rounded up to the step. A size of 0 takes the whole largest gap.
func (t *Table) Place(size, step quantity.Bytes) (extent.Span, error) {
	best := t.Largest(step)
	if size == 0 && best.Count > 0 {
		return best, nil
	}
	rounded, ok := size.Up(step)
	if size > 0 && ok {
		want := uint64(rounded / t.Sector)
		for _, gap := range t.Gaps() {
			if room := t.Room(gap, step); room.Count >= want {
				return extent.Span{Start: room.Start, Count: want}, nil
			}
		}
	}
	largest, _ := quantity.Count(best.Count).Times(t.Sector)
	return extent.Span{}, &RoomError{size, largest, ErrNoRoom}
}

// Bytes turns a span of sectors into a span of bytes.
func (t *Table) Bytes(s extent.Span) (start, size quantity.Bytes, ok bool) {
	start, okStart := quantity.LBA{Number: s.Start, Sector: t.Sector}.Bytes()
	size, okSize := quantity.Count(s.Count).Times(t.Sector)
	return start, size, okStart && okSize
}
