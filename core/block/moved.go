package block

import (
	"cmp"
	"fmt"
	"io"
	"slices"
)

// Move says that the bytes from To on are read from From on, of the device below.
type Move struct{ From, To, Len int64 } // bytes

func (m Move) end() int64 { return m.To + m.Len }

// Moved is a device on which some ranges read from other places of the one below: what a
// device is after data was moved, where that is too much to be held. It is never
// written; an overlay goes on top.
type Moved struct {
	base  Device
	moves []Move // by where they lead; none overlaps another there
}

var _ Device = (*Moved)(nil)

// NewMoved puts the moves over the device. They are refused where one reaches past its
// end, is off its logical sectors, or where two lead to the same place. Where they come
// from may overlap: the device below stays as it is.
func NewMoved(base Device, moves []Move) (*Moved, error) {
	m := &Moved{base, slices.Clone(moves)}
	slices.SortFunc(m.moves, func(a, b Move) int { return cmp.Compare(a.To, b.To) })
	for i, x := range m.moves {
		for _, off := range []int64{x.From, x.To} {
			if err := CheckAccess(base, "move", off, x.Len); err != nil {
				return nil, err
			}
		}
		if x.Len == 0 {
			return nil, fmt.Errorf("a move of no bytes to byte %d: %w", x.To, ErrRange)
		}
		if i > 0 && m.moves[i-1].end() > x.To {
			return nil, fmt.Errorf("two moves to byte %d: %w", x.To, ErrRange)
		}
	}
	return m, nil
}

// at gives the place below for a byte, and how far the same move goes, or no move.
func (m *Moved) at(off int64) (below, room int64) {
	i, _ := slices.BinarySearchFunc(m.moves, off, func(x Move, off int64) int {
		if x.end() <= off {
			return -1
		}
		return 1
	})
	switch {
	case i == len(m.moves):
		return off, max(m.Size()-off, 0)
	case m.moves[i].To > off:
		return off, m.moves[i].To - off
	}
	x := m.moves[i]
	return x.From + off - x.To, x.end() - off
}

// ReadAt reads piece by piece.
func (m *Moved) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 || off > m.Size() {
		return 0, &AccessError{"read", off, int64(len(p)), ErrRange}
	}
	want := min(int64(len(p)), m.Size()-off)
	for done := int64(0); done < want; {
		below, room := m.at(off + done)
		n := min(room, want-done)
		if err := ReadFull(m.base, p[done:done+n], below); err != nil {
			return int(done), err
		}
		done += n
	}
	if want < int64(len(p)) {
		return int(want), io.EOF
	}
	return int(want), nil
}

// WriteAt refuses.
func (m *Moved) WriteAt(p []byte, off int64) (int, error) {
	return 0, &AccessError{"write", off, int64(len(p)), ErrReadOnly}
}

// WriteZeroes refuses.
func (m *Moved) WriteZeroes(off, n int64) error { return &AccessError{"zero", off, n, ErrReadOnly} }

// Next gives the run of the device below, as far as it is the same piece here.
func (m *Moved) Next(off int64) (start, end int64, hole bool, err error) {
	if off >= m.Size() {
		return 0, 0, false, io.EOF
	}
	below, room := m.at(off)
	_, until, hole, err := m.base.Next(below)
	return off, off + min(room, until-below), hole, err
}

// Size in bytes.
func (m *Moved) Size() int64 { return m.base.Size() }

// Geometry is that of the device below.
func (m *Moved) Geometry() Geometry { return m.base.Geometry() }

// Sync does nothing.
func (m *Moved) Sync() error { return nil }

// Close leaves the device below open.
func (m *Moved) Close() error { return nil }
