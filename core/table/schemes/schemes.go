// Package schemes opens a partition table for editing, whichever scheme it has. A new scheme is
// a package beside this one, a row in the list of kinds, by which it is recognised, and a case
// here and in package scan.
package schemes

import (
	"encoding/binary"
	"errors"
	"fmt"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/quantity"
	"fundus/core/table"
	"fundus/core/table/gpt"
	"fundus/core/table/mbr"
)

// Errors of opening.
var (
	ErrNone    = errors.New("no partition table that Fundus can change")
	ErrDamaged = errors.New("a copy of the table is not good")
)

// Open gives the table of the device for editing. Where the disk has become
// larger, all of it is usable, which the note says. A GPT with a damaged copy is
// refused with ErrDamaged.
//
// A damaged copy is repaired first, by a command of its own: an edit of what is left would
// make the damage the truth.
func Open(dev block.Device) (e table.Editor, note string, err error) {
	sector := quantity.Bytes(dev.Geometry().Logical)
	state, err := gpt.Read(dev)
	switch {
	case err == nil && !state.Dead():
		for _, err := range []error{state.PrimaryErr, state.BackupErr} {
			if err != nil {
				return nil, "", fmt.Errorf("%w: %w", ErrDamaged, err)
			}
		}
		edit := state.Primary.Edit(sector)
		was := state.Primary.Alternate
		if edit.Fit(state.Sectors) {
			note = fmt.Sprintf("the disk has become larger: the backup copy of the table moves from sector %d to its end, sector %d",
				was, state.Sectors-1)
		}
		return edit, note, nil
	case err != nil && !errors.Is(err, gpt.ErrNone):
		return nil, "", err
	}
	t, err := mbr.Read(dev)
	if err != nil {
		return nil, "", err
	}
	if t == nil {
		return nil, "", ErrNone
	}
	return t.Clone(), "", nil
}

// Wanted is what a new table is to be.
type Wanted struct {
	Scheme  table.Scheme
	Entries int            // of a GPT; 0 for the usual 128
	Step    quantity.Bytes // alignment
	ID      uuid.UUID      // a random one; an MBR takes its first 32 bits
}

// New is an empty table for the device; nothing is written.
func New(dev block.Device, w Wanted) (table.Editor, error) {
	sector := quantity.Bytes(dev.Geometry().Logical)
	switch w.Scheme {
	case table.GPT:
		t, err := gpt.NewSized(quantity.Bytes(dev.Size()), sector, w.Step, w.ID, w.Entries)
		if err != nil {
			return nil, err
		}
		return t.Edit(sector), nil
	case table.MBR:
		if w.Entries != 0 {
			return nil, fmt.Errorf("%w: an MBR has four entries", table.ErrValue)
		}
		return mbr.New(dev, max(binary.BigEndian.Uint32(w.ID[:]), 1))
	}
	return nil, fmt.Errorf("%q: %w: use gpt or mbr", w.Scheme, table.ErrValue)
}

// Rest is what is left to be cleared once a new table of the scheme stands where another one
// may have been: behind an MBR the headers of a GPT would be taken for a table that was lost,
// while a new GPT overwrites all that an MBR has.
func Rest(s table.Scheme) func(block.Device) error {
	if s == table.MBR {
		return gpt.Erase
	}
	return func(block.Device) error { return nil }
}
