package gpt

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/extent"
	"fundus/core/quantity"
	"fundus/core/table"
)

// Table is one copy of a GPT. LBAs count logical sectors.
type Table struct {
	Revision                uint32
	Reserved                uint32
	MyLBA, Alternate        uint64
	FirstUsable, LastUsable uint64
	DiskGUID                uuid.UUID
	ArrayLBA                uint64
	EntrySize               uint32 // bytes
	Entries                 []Entry
	headerSize, slots       uint32
	tail                    []byte // the header's sector behind its known fields
}

// Entry is one slot; an unused one has the nil Type.
type Entry struct {
	Type, Unique uuid.UUID
	First, Last  uint64 // inclusive
	Attributes   uint64
	name         [nameUnits]uint16
	extra        []byte
}

// Errors of tables.
var (
	ErrTooSmall = errors.New("too small for a partition table")
)

// ChecksumError is a CRC that does not match; it is a field.ErrChecksum.
type ChecksumError struct {
	Struct         string
	Off            int64 // byte on the device
	Recorded, Real uint32
}

func (e *ChecksumError) Error() string {
	return fmt.Sprintf("%s at byte %d: CRC %#08x recorded, %#08x computed", e.Struct, e.Off, e.Recorded, e.Real)
}

// Unwrap gives field.ErrChecksum.
func (e *ChecksumError) Unwrap() error { return field.ErrChecksum }

// Used reports whether the slot holds a partition.
func (e Entry) Used() bool { return e.Type != uuid.Nil }

// Span is where the partition lies; an entry that ends before it starts is
// empty.
func (e Entry) Span() extent.Span {
	if e.Last < e.First {
		return extent.Span{Start: e.First}
	}
	return extent.Span{Start: e.First, Count: e.Last - e.First + 1}
}

// Name is the partition's name up to its first zero unit.
func (e Entry) Name() string {
	units := e.name[:]
	if i := slices.Index(units, 0); i >= 0 {
		units = units[:i]
	}
	return string(utf16.Decode(units))
}

// SetName stores a name of at most 36 UTF-16 units.
func (e *Entry) SetName(name string) error {
	if !utf8.ValidString(name) || strings.ContainsRune(name, 0) {
		return fmt.Errorf("%q: %w: it is no text that UTF-16 could hold", name, table.ErrName)
	}
	units := utf16.Encode([]rune(name))
	if len(units) > nameUnits {
		return fmt.Errorf("%q: %w: %d UTF-16 units, at most %d", name, table.ErrName, len(units), nameUnits)
	}
	e.name = [nameUnits]uint16{}
	copy(e.name[:], units)
	return nil
}

// New is an empty table for a disk of the given size and sector, with 128
// entries. It fails with ErrTooSmall where no aligned partition would fit.
func New(size, sector, step quantity.Bytes, disk uuid.UUID) (*Table, error) {
	return NewSized(size, sector, step, disk, DefaultEntries)
}

// NewSized is New with so many entries; 0 are 128, of which there are never fewer.
func NewSized(size, sector, step quantity.Bytes, disk uuid.UUID, entries int) (*Table, error) {
	if entries == 0 {
		entries = DefaultEntries
	}
	if entries < DefaultEntries || entries > maxArray/defaultSize {
		return nil, fmt.Errorf("%d entries: %w: from %d to %d", entries, table.ErrValue, DefaultEntries, maxArray/defaultSize)
	}
	array := (uint64(entries)*defaultSize + uint64(sector) - 1) / uint64(sector)
	smallest := 2*step + quantity.Bytes(array+1)*sector
	if size < smallest {
		return nil, fmt.Errorf("%w: %d bytes, it takes at least %d (%v)", ErrTooSmall, size, smallest, smallest)
	}
	last := uint64(size/sector) - 1
	t := &Table{
		Revision: revision1, MyLBA: headerLBA, Alternate: last, FirstUsable: 2 + array, LastUsable: last - array - 1,
		DiskGUID: disk, ArrayLBA: 2, EntrySize: defaultSize, Entries: make([]Entry, entries),
		headerSize: headerEnd, slots: uint32(entries), tail: make([]byte, sector-headerEnd),
	}
	return t, nil
}

// Clone is a copy that can be edited.
func (t *Table) Clone() *Table {
	c := *t
	c.Entries = slices.Clone(t.Entries)
	return &c
}

// Add puts a partition into its numbered slot (from 1).
func (t *Table) Add(number int, e Entry) error {
	if number < 1 || number > len(t.Entries) {
		return fmt.Errorf("partition %d: %w: the table has %d entries", number, table.ErrNoEntry, len(t.Entries))
	}
	if t.Entries[number-1].Used() {
		return fmt.Errorf("partition %d: %w", number, table.ErrTaken)
	}
	if err := t.fits(number-1, e); err != nil {
		return err
	}
	e.extra = make([]byte, t.EntrySize-entryEnd)
	t.Entries[number-1] = e
	return nil
}

// Remove empties a slot; the other numbers stay.
func (t *Table) Remove(number int) error {
	if number < 1 || number > len(t.Entries) || !t.Entries[number-1].Used() {
		return fmt.Errorf("partition %d: %w", number, table.ErrNoEntry)
	}
	t.Entries[number-1] = Entry{extra: make([]byte, t.EntrySize-entryEnd)}
	return nil
}

// Usable is where partitions may lie.
func (t *Table) Usable() extent.Span {
	return extent.Span{Start: t.FirstUsable, Count: t.LastUsable - t.FirstUsable + 1}
}

// arraySectors is how many sectors the entry array takes.
func (t *Table) arraySectors(sector int64) uint64 {
	return uint64((int64(len(t.Entries))*int64(t.EntrySize) + sector - 1) / sector)
}

// Model is the table in the common form. Type and unique GUIDs are in lower
// case, as Linux prints them.
func (t *Table) Model(sector quantity.Bytes) *table.Table {
	m := &table.Table{Scheme: table.GPT, ID: t.DiskGUID.String(), Sector: sector, Usable: t.Usable(), Slots: len(t.Entries)}
	for i, e := range t.Entries {
		if e.Used() {
			m.Parts = append(m.Parts, table.Partition{
				Number: i + 1, Span: e.Span(), Type: e.Type.String(), UUID: e.Unique.String(),
				Name: e.Name(), Attributes: e.Attributes,
			})
		}
	}
	slices.SortFunc(m.Parts, func(a, b table.Partition) int { return cmp.Compare(a.Number, b.Number) })
	return m
}

// same reports whether both copies say the same of the partitions.
func same(a, b *Table) bool {
	return a.DiskGUID == b.DiskGUID && a.FirstUsable == b.FirstUsable && a.LastUsable == b.LastUsable &&
		slices.EqualFunc(a.Entries, b.Entries, Entry.same)
}

// same reports whether both entries say the same.
func (e Entry) same(o Entry) bool {
	return e.Type == o.Type && e.Unique == o.Unique && e.First == o.First && e.Last == o.Last && e.Attributes == o.Attributes &&
		e.name == o.name
}

// Sniff reports whether the device carries a GPT that Linux would believe, and
// the bytes that make it so.
func Sniff(dev block.Device) (*State, []extent.Span, error) {
	s, err := Read(dev)
	if errors.Is(err, ErrNone) {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	if s.Good() == nil && s.Dead() {
		return nil, nil, nil
	}
	sector := uint64(dev.Geometry().Logical)
	spans := []extent.Span{{Start: 0, Count: sector}, {Start: sector, Count: sector}, {Start: (s.Sectors - 1) * sector, Count: sector}}
	return s, spans, nil
}
