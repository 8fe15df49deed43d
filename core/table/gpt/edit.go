package gpt

import (
	"errors"
	"fmt"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/quantity"
	"fundus/core/table"
)

// Editor is a GPT that is being changed. It is a table.Editor.
type Editor struct {
	t      *Table
	sector quantity.Bytes
}

var _ table.Editor = (*Editor)(nil)

// Edit starts from a table, which stays as it is. Sectors of the entry array are not
// usable, whatever its header says.
func (t *Table) Edit(sector quantity.Bytes) *Editor {
	c := t.Clone()
	c.FirstUsable = min(max(c.FirstUsable, c.arrayEnd(int64(sector))), c.LastUsable)
	return &Editor{c, sector}
}

// arrayEnd is the first sector behind the entry array of the primary copy, which a
// backup copy does not name: there it is the usual place.
func (t *Table) arrayEnd(sector int64) uint64 {
	if t.MyLBA != headerLBA {
		return 2 + t.arraySectors(sector)
	}
	return t.ArrayLBA + t.arraySectors(sector)
}

// Fit makes the whole of a disk that has become larger usable, whose backup copy
// lies at the new end from then on. It reports whether there is more room.
func (e *Editor) Fit(sectors uint64) bool {
	array := e.t.arraySectors(int64(e.sector))
	last := sectors - array - 2
	if sectors < array+2 || last <= e.t.LastUsable || e.t.Alternate >= sectors-1 {
		return false
	}
	e.t.LastUsable, e.t.Alternate = last, sectors-1
	return true
}

// Model is the table as it is now.
func (e *Editor) Model() *table.Table { return e.t.Model(e.sector) }

// Rebuild makes the table fit a disk of so many sectors, with the array at its
// usual place. It fails where a partition would not lie on the disk.
//
// For a disk that became larger, whose backup copy lies in its middle, or smaller, whose
// backup copy is gone, and for arrays at odd places, where an interim copy would not fit.
// What the header leaves out, though a partition lies there, becomes usable again.
func (e *Editor) Rebuild(sectors uint64) error {
	array := e.t.arraySectors(int64(e.sector))
	if sectors < 2*array+4 {
		return fmt.Errorf("%w: %d sectors", ErrTooSmall, sectors)
	}
	last := sectors - array - 2
	if past := e.t.Past(last); len(past) > 0 {
		return fmt.Errorf("%w: partitions that reach past sector %d: %s; give the disk its former size of %d sectors again",
			ErrCut, last, numbers(past), e.t.Alternate+1)
	}
	e.t.ArrayLBA, e.t.LastUsable, e.t.Alternate = 2, last, sectors-1
	e.t.FirstUsable = max(e.t.FirstUsable, 2+array)
	for i, p := range e.t.Entries { // a partition that the header leaves out, though it is in nobody's way
		switch {
		case !p.Used() || p.Span().Count == 0:
		case p.First < 2+array:
			return fmt.Errorf("partition %d begins with sector %d, inside the entry array of the table (sectors 2 to %d): %w; copy away what is on it and remove it",
				i+1, p.First, 1+array, table.ErrPlace)
		default:
			e.t.FirstUsable = min(e.t.FirstUsable, p.First)
		}
	}
	return nil
}

// SetID gives the disk another GUID.
func (e *Editor) SetID(id string) error {
	parsed, err := uuid.Parse(id)
	if err != nil || parsed == uuid.Nil {
		return fmt.Errorf("%q: %w: a GPT has a GUID other than that of zeros", id, table.ErrValue)
	}
	e.t.DiskGUID = parsed
	return nil
}

// Add makes a partition; number 0 is the lowest that is free.
func (e *Editor) Add(p table.Partition) error {
	if p.Number == 0 {
		n, err := e.Model().FreeNumber()
		if err != nil {
			return err
		}
		p.Number = n
	}
	entry, err := e.entry(Entry{}, p)
	if err != nil {
		return err
	}
	return e.t.Add(p.Number, entry)
}

// entry is the entry with the values of p; what GPT has beyond them stays.
func (e *Editor) entry(from Entry, p table.Partition) (Entry, error) {
	typ, err := uuid.Parse(p.Type)
	if err != nil || typ == uuid.Nil {
		return from, fmt.Errorf("type %q: %w: a GPT has GUIDs", p.Type, table.ErrValue)
	}
	id, err := uuid.Parse(p.UUID)
	if err != nil || id == uuid.Nil {
		return from, fmt.Errorf("PARTUUID %q: %w: a GPT has GUIDs other than that of zeros", p.UUID, table.ErrValue)
	}
	for i, o := range e.t.Entries {
		if o.Used() && o.Unique == id && from.Unique != id {
			return from, fmt.Errorf("PARTUUID %s: %w: partition %d has it", id, table.ErrValue, i+1)
		}
	}
	if p.Number > table.HighestNumber {
		return from, fmt.Errorf("partition %d: %w: Linux has devices for numbers up to %d", p.Number, table.ErrValue, table.HighestNumber)
	}
	if p.Span.Count == 0 {
		return from, fmt.Errorf("sectors %v: %w: it has no sectors", p.Span, table.ErrPlace)
	}
	from.Type, from.Unique, from.Attributes = typ, id, p.Attributes
	from.First, from.Last = p.Span.Start, p.Span.End()-1
	if from.Name() != p.Name {
		err = from.SetName(p.Name)
	} else {
		err = nil
	}
	return from, err
}

// Remove empties the entry; the other numbers stay.
func (e *Editor) Remove(number int) error { return e.t.Remove(number) }

// Set gives the partition other values, which may be another number.
func (e *Editor) Set(number int, p table.Partition) error {
	if number < 1 || number > len(e.t.Entries) || !e.t.Entries[number-1].Used() {
		return fmt.Errorf("partition %d: %w", number, table.ErrNoEntry)
	}
	was := e.t.Entries[number-1]
	entry, err := e.entry(was, p)
	if err != nil {
		return err
	}
	changed := e.t.Clone()
	err = errors.Join(changed.Remove(number), changed.Add(p.Number, entry))
	if err == nil {
		if number == p.Number {
			changed.Entries[number-1].extra = was.extra
		}
		e.t = changed
	}
	return err
}

// Write brings the table onto the device, and warns where there is no room for an
// interim copy.
//
// Whoever cuts the power between two sectors should find the old table or the new one. That
// takes a third place for an array, in the free space before the first partition, which
// most disks have; without it the order is the one that leaves the backup copy good.
func (e *Editor) Write(dev block.Device) (string, error) {
	old, err := Read(dev)
	if err != nil && !errors.Is(err, ErrNone) {
		return "", err
	}
	order, err := Write(dev, old, e.t)
	if order == Plain {
		return "there is no free space before the first partition for an interim copy: a power cut in the wrong moment leaves only the backup copy of the table", err
	}
	return "", err
}

// Hidden lists the partitions that Linux does not show: those with numbers above
// 255. Where an entry has another size than 128 bytes it shows none at all
// (block/partitions/efi.c).
func (t *Table) Hidden() (numbers []int) {
	for i, e := range t.Entries {
		if e.Used() && i >= table.HighestNumber {
			numbers = append(numbers, i+1)
		}
	}
	return numbers
}

// Past lists the partitions that reach behind the last sector.
func (t *Table) Past(last uint64) (numbers []int) {
	for i, e := range t.Entries {
		if e.Used() && e.Span().Count > 0 && e.Last > last {
			numbers = append(numbers, i+1)
		}
	}
	return numbers
}
