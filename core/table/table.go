// Package table is the common model of partition tables: what a table of any
// scheme says, and where a new partition would go. The schemes themselves are
// read and written by the packages below this one.
package table

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"fundus/core/block"
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

// Name is the scheme as it stands in a sentence.
func (s Scheme) Name() string { return strings.ToUpper(string(s)) }

// Role is what a partition of an MBR is to the others; those of a GPT have none.
type Role string

// The roles.
const (
	Primary  Role = "primary"
	Extended Role = "extended" // holds the logical ones
	Logical  Role = "logical"
)

// Table is a partition table as plain data. Spans count logical sectors.
type Table struct {
	Scheme Scheme
	ID     string         // disk GUID, or the disk signature in hexadecimal
	Sector quantity.Bytes // logical sector
	Usable extent.Span    // where partitions may lie
	Slots  int            // how many entries there are
	Parts  []Partition    // by number
	Chain  []extent.Span  // sectors that hold the chain of logical partitions
	Unseen string         // why Linux takes none of it from the disk; "" where it does, see Linux
	Forced bool           // Linux takes it all the same where its command line says gpt
}

// Partition is one entry.
type Partition struct {
	Number     int
	Span       extent.Span // sectors
	Type       string      // GUID, or the type byte in hexadecimal
	UUID       string      // the PARTUUID as Linux prints it
	Name       string
	Attributes uint64 // of GPT; of MBR the boot flag, see Boot
	Role       Role
}

// Boot is the attribute of the partition that old firmware starts from: bit 2 of
// a GPT's attributes (UEFI 2.10, table 5.8), bit 7 of an MBR's boot flag.
func Boot(s Scheme) uint64 {
	if s == MBR {
		return 0x80
	}
	return 1 << 2
}

// Errors of edits. What a user can ask for wrongly has an error of its own.
var (
	ErrNoRoom  = errors.New("no free gap is large enough")
	ErrNoSlot  = errors.New("every entry of the table is taken")
	ErrNoEntry = errors.New("the table has no such partition")
	ErrTaken   = errors.New("the number is taken")
	ErrPlace   = errors.New("not a place for a partition")
	ErrName    = errors.New("not a name for a partition")
	ErrValue   = errors.New("not possible in this table")
)

// Editor is a table that is being changed: that of package gpt, or of package
// mbr. An edit that is refused changes nothing.
type Editor interface {
	// Model is the table as it is now.
	Model() *Table
	// Add makes a partition of the number, span, type, name and attributes, and
	// for a GPT with the UUID; of an MBR the place decides whether it is logical.
	Add(p Partition) error
	// Remove takes it out. Behind a logical one the numbers move up.
	Remove(number int) error
	// Set gives the partition of that number what the values say: type, name,
	// attributes, UUID, span and number.
	Set(number int, p Partition) error
	// SetID gives the whole table another identifier, in the form of Table.ID.
	SetID(id string) error
	// Write brings the table onto the device, phase by phase, so that a cut at any
	// sector leaves Linux the old table or the new one. What it warns of is put in
	// words.
	Write(dev block.Device) (warning string, err error)
}

// RoomError says how much would fit.
type RoomError struct {
	Wanted, Largest quantity.Bytes
	Err             error
}

func (e *RoomError) Error() string {
	if e.Largest == 0 {
		return "no gap takes a partition: all of it is given away"
	}
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

// Gaps lists the free spans between the partitions, in sectors, unaligned; those
// inside an extended partition too.
func (t *Table) Gaps() []extent.Span {
	var outer []extent.Span
	inner := slices.Clone(t.Chain)
	for _, p := range t.Parts {
		if p.Role == Logical {
			inner = append(inner, p.Span)
		} else {
			outer = append(outer, p.Span)
		}
	}
	gaps := extent.Gaps(t.Usable, outer)
	for _, p := range t.Parts {
		if p.Role == Extended {
			gaps = append(gaps, extent.Gaps(p.Span, inner)...)
		}
	}
	slices.SortFunc(gaps, func(a, b extent.Span) int { return cmp.Compare(a.Start, b.Start) })
	return gaps
}

// Inside reports whether the span lies in an extended partition.
func (t *Table) Inside(s extent.Span) bool {
	return slices.ContainsFunc(t.Parts, func(p Partition) bool { return p.Role == Extended && p.Span.Contains(s) })
}

// Open reports whether a partition can be put into the gap: an MBR has four
// entries outside of its extended partition.
func (t *Table) Open(gap extent.Span) bool {
	if t.Inside(gap) {
		return true
	}
	_, err := t.FreeNumber()
	return err == nil
}

// Used is how many entries are taken, and how many partitions are logical, which
// take none.
func (t *Table) Used() (entries, logical int) {
	for _, p := range t.Parts {
		if p.Role == Logical {
			logical++
		}
	}
	return len(t.Parts) - logical, logical
}

// Nested reports whether a partition of an MBR holds a table of another system, whose
// partitions Linux numbers behind the others (block/partitions/msdos.c).
func (t *Table) Nested() bool {
	others := []string{"63", "81", "a5", "a6", "a9", "bf"}
	return t.Scheme == MBR && slices.ContainsFunc(t.Parts, func(p Partition) bool { return slices.Contains(others, p.Type) })
}

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

// Room is the aligned part of a gap, in sectors. Inside an extended partition a
// sector before it is left to the chain.
func (t *Table) Room(gap extent.Span, step quantity.Bytes) extent.Span {
	if t.Inside(gap) {
		gap = extent.Span{Start: gap.Start + 1, Count: gap.Count - 1}
	}
	return gap.Inner(uint64(max(step/t.Sector, 1)))
}

// Rooms are those of the gaps that can take a partition, in order.
func (t *Table) Rooms(step quantity.Bytes) (rooms []extent.Span) {
	for _, gap := range t.Gaps() {
		if room := t.Room(gap, step); room.Count > 0 && t.Open(gap) {
			rooms = append(rooms, room)
		}
	}
	return rooms
}

// Largest is the largest aligned room on the disk, in sectors.
func (t *Table) Largest(step quantity.Bytes) extent.Span {
	var best extent.Span
	for _, room := range t.Rooms(step) {
		if room.Count > best.Count {
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
		for _, room := range t.Rooms(step) {
			if room.Count >= want {
				return extent.Span{Start: room.Start, Count: want}, nil
			}
		}
	}
	largest, _ := quantity.Count(best.Count).Times(t.Sector)
	return extent.Span{}, &RoomError{size, largest, ErrNoRoom}
}

// Piece is a span of sectors with the words that name it to an administrator.
type Piece struct {
	Name string // "partition 3"
	Span extent.Span
}

// Disjoint refuses pieces that are empty, reach behind the last of so many sectors, or
// overlap each other, and names them.
func Disjoint(list []Piece, sectors uint64) error {
	spans := make([]extent.Span, len(list))
	for i, p := range list {
		spans[i] = p.Span
	}
	err := extent.Validate(spans, sectors)
	var broken *extent.SpanError
	if !errors.As(err, &broken) {
		return err
	}
	p := list[broken.Index]
	switch {
	case broken.Other >= 0:
		o := list[broken.Other]
		return fmt.Errorf("%s: sectors %v: %w: %s has %v", p.Name, p.Span, extent.ErrOverlap, o.Name, o.Span)
	case p.Span.Count == 0:
		return fmt.Errorf("%s: %w: it has no sectors", p.Name, extent.ErrEmpty)
	}
	return fmt.Errorf("%s: sectors %v: %w of the disk, which has %d sectors", p.Name, p.Span, extent.ErrBeyond, sectors)
}

// Bytes turns a span of sectors into a span of bytes.
func (t *Table) Bytes(s extent.Span) (start, size quantity.Bytes, ok bool) {
	start, okStart := quantity.LBA{Number: s.Start, Sector: t.Sector}.Bytes()
	size, okSize := quantity.Count(s.Count).Times(t.Sector)
	return start, size, okStart && okSize
}
