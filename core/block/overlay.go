package block

import (
	"fmt"
	"io"
	"slices"
)

// Extent is a run of bytes that an overlay holds. A zero run has no data.
type Extent struct {
	Off  int64 `json:"off"` // bytes
	Len  int64 `json:"len"` // bytes
	Zero bool  `json:"zero"`
	data []byte
	at   int64 // position in the spill file, where data is nil and Zero is false
}

func (e Extent) end() int64 { return e.Off + e.Len }

// part is the piece of e between the two positions, which lie inside it.
func (e Extent) part(from, to int64) Extent {
	p := Extent{Off: from, Len: to - from, Zero: e.Zero}
	if e.data != nil {
		p.data = e.data[from-e.Off : to-e.Off]
	} else {
		p.at = e.at + (from - e.Off)
	}
	return p
}

// SpillFile is where an overlay puts what does not fit into memory.
type SpillFile interface {
	io.ReaderAt
	io.WriterAt
	io.Closer
}

// Spill says how much an overlay keeps in memory and where the rest goes. The
// zero value keeps everything in memory.
type Spill struct {
	Ceiling int64 // bytes of data in memory, 0 for no ceiling
	Open    func() (SpillFile, error)
	// Held is how many bytes all overlays have in memory that share the ceiling; nil: each
	// has its own.
	Held *int64
}

// DefaultCeiling is how many bytes of written data an overlay keeps in memory
// where somebody gave it a place to spill to.
const DefaultCeiling = 256 << 20

// Overlay is a copy-on-write view of a device: reads fall through, writes stay
// here. Sync closes a phase: extents merge inside a phase only, and whoever
// carries the overlay out does so phase by phase with a real sync between.
//
// Invariant: inside a phase, extents are sorted and do not overlap; a state holds the
// newest extents of all phases up to it.
type Overlay struct {
	base   Device
	closed [][]Extent // the phases
	states []runs     // as it is after each of them, from none on
	open   runs       // what was written since
	newest runs       // as it is now
	spill  Spill
	file   SpillFile
	inMem  *int64 // bytes
	onFile int64
	work   *int64
}

var _ Device = (*Overlay)(nil)

// NewOverlay puts an empty overlay over the device, which it never writes to.
func NewOverlay(base Device, spill Spill) *Overlay {
	return newOverlay(base, spill, nil)
}

func newOverlay(base Device, spill Spill, work *int64) *Overlay {
	o := &Overlay{base: base, spill: spill, inMem: spill.Held, work: work}
	if o.inMem == nil {
		o.inMem = new(int64)
	}
	o.open, o.newest = newRuns(work), newRuns(work)
	o.states = []runs{o.newest.copy()}
	return o
}

// Size in bytes.
func (o *Overlay) Size() int64 { return o.base.Size() }

// Geometry is that of the device below.
func (o *Overlay) Geometry() Geometry { return o.base.Geometry() }

// Phases is how many phases were closed.
func (o *Overlay) Phases() int { return len(o.closed) }

// Phase lists the extents of closed phase i in order of their offset.
func (o *Overlay) Phase(i int) []Extent { return o.closed[i] }

// Held is how many bytes of data are held in memory, by all overlays that share the ceiling, and how
// many are on file. They are those that can be read still: of a piece that was written over in part,
// the whole array stays in memory until nothing of it is left. What is written is written over in
// whole pieces, but for a sector here and there, so that the difference is a few of those.
func (o *Overlay) Held() (memory, spilled int64) { return *o.inMem, o.onFile }

// Sync closes the open phase. Without writes since the last one it does
// nothing.
func (o *Overlay) Sync() error {
	if o.open.len() == 0 {
		return nil
	}
	o.closed = append(o.closed, o.open.list())
	o.states = append(o.states, o.newest.copy())
	o.open = newRuns(o.work)
	return nil
}

// Close drops the spill file; the device below stays open.
func (o *Overlay) Close() error {
	if o.file == nil {
		return nil
	}
	file := o.file
	o.file = nil
	return file.Close()
}

// WriteAt keeps a copy of p.
func (o *Overlay) WriteAt(p []byte, off int64) (int, error) {
	if err := o.write(p, off, slices.Clone[[]byte]); err != nil {
		return 0, err
	}
	return len(p), nil
}

// Take keeps p itself: the caller gives it away and does not change it again.
// The same bytes may be given to several places.
func (o *Overlay) Take(p []byte, off int64) error {
	return o.write(p, off, func(p []byte) []byte { return p })
}

func (o *Overlay) write(p []byte, off int64, keep func([]byte) []byte) error {
	if err := CheckAccess(o, "write", off, int64(len(p))); err != nil || len(p) == 0 {
		return err
	}
	e := Extent{Off: off, Len: int64(len(p))}
	if o.spill.Open != nil && o.spill.Ceiling > 0 && *o.inMem+e.Len > o.spill.Ceiling {
		if err := o.toFile(&e, p); err != nil {
			return err
		}
	} else {
		e.data = keep(p)
		*o.inMem += e.Len
	}
	o.insert(e)
	return nil
}

func (o *Overlay) toFile(e *Extent, p []byte) error {
	if o.file == nil {
		file, err := o.spill.Open()
		if err != nil {
			return fmt.Errorf("no place for the %d bytes of this draft that do not fit into memory: %w", e.Len, err)
		}
		o.file = file
	}
	if _, err := o.file.WriteAt(p, o.onFile); err != nil {
		return fmt.Errorf("draft data: %w", err)
	}
	e.at = o.onFile
	o.onFile += e.Len
	return nil
}

// WriteZeroes keeps a zero run, which takes no memory.
func (o *Overlay) WriteZeroes(off, n int64) error {
	if err := CheckAccess(o, "zero", off, n); err != nil || n == 0 {
		return err
	}
	o.insert(Extent{Off: off, Len: n, Zero: true})
	return nil
}

// insert puts e into the open phase, and over everything that is older.
func (o *Overlay) insert(e Extent) {
	for _, old := range o.open.put(e) {
		if old.data != nil {
			*o.inMem -= min(old.end(), e.end()) - max(old.Off, e.Off)
		}
	}
	o.newest.put(e)
}

// ReadAt reads the newest bytes: of the open phase, else of the phases before,
// else of the device.
func (o *Overlay) ReadAt(p []byte, off int64) (int, error) { return o.read(o.newest, p, off) }

// read reads as things were in the state.
func (o *Overlay) read(state runs, p []byte, off int64) (int, error) {
	if off < 0 || off > o.Size() {
		return 0, &AccessError{"read", off, int64(len(p)), ErrRange}
	}
	want := min(int64(len(p)), o.Size()-off)
	if err := o.fill(state, p[:want], off); err != nil {
		return 0, err
	}
	if want < int64(len(p)) {
		return int(want), io.EOF
	}
	return int(want), nil
}

// fill reads p from the extents of the state and, between them, from the device below.
func (o *Overlay) fill(state runs, p []byte, off int64) error {
	for end := off + int64(len(p)); off < end; {
		e, found := state.at(off)
		if !found || e.Off >= end {
			return ReadFull(o.base, p, off)
		}
		if n := e.Off - off; n > 0 {
			if err := ReadFull(o.base, p[:n], off); err != nil {
				return err
			}
			p, off = p[n:], e.Off
		}
		n := min(end, e.end()) - off
		if err := o.Data(e.part(off, off+n), p[:n]); err != nil {
			return err
		}
		p, off = p[n:], off+n
	}
	return nil
}

// Data reads the bytes of an extent of this overlay into p, which has its
// length.
func (o *Overlay) Data(e Extent, p []byte) error {
	switch {
	case e.Zero:
		clear(p)
	case e.data != nil:
		copy(p, e.data)
	default:
		return ReadFull(o.file, p, e.at)
	}
	return nil
}

// After is the device as it is after the first n closed phases, for reading.
func (o *Overlay) After(n int) io.ReaderAt { return phaseView{o, o.states[n]} }

type phaseView struct {
	o     *Overlay
	state runs
}

func (v phaseView) ReadAt(p []byte, off int64) (int, error) { return v.o.read(v.state, p, off) }

// ZeroUntil is the end of the run of zeros that begins at off and is known
// without reading; off itself where nothing is known.
func (v phaseView) ZeroUntil(off int64) int64 {
	_, end, hole, err := v.o.next(v.state, off)
	if err != nil || !hole {
		return off
	}
	return end
}

// Held gives the bytes of the range without copying, where one write that is
// still in memory covers all of it; else nil. Nobody changes them.
func (v phaseView) Held(off, n int64) []byte {
	e, found := v.state.at(off)
	if !found || e.data == nil || e.Off > off || off+n > e.end() {
		return nil
	}
	return e.data[off-e.Off : off-e.Off+n]
}

// HeldBytes asks a view for bytes that it holds in memory; nil where it cannot
// tell.
func HeldBytes(view io.ReaderAt, off, n int64) []byte {
	if h, ok := view.(interface{ Held(off, n int64) []byte }); ok {
		return h.Held(off, n)
	}
	return nil
}

// ZeroTeller is a view that knows zeros without reading them.
type ZeroTeller interface{ ZeroUntil(off int64) int64 }

// KnownZero reports whether the view knows that all n bytes from off are zero.
func KnownZero(view io.ReaderAt, off, n int64) bool {
	z, ok := view.(ZeroTeller)
	for end := off + n; ok && off < end; {
		next := z.ZeroUntil(off)
		if next == off {
			return false
		}
		off = next
	}
	return ok
}

// Next gives runs of the newest bytes. What was written is data even where it
// is zeros, unless it was written as zeros.
func (o *Overlay) Next(off int64) (start, end int64, hole bool, err error) {
	return o.next(o.newest, off)
}

func (o *Overlay) next(state runs, off int64) (start, end int64, hole bool, err error) {
	if off >= o.Size() {
		return 0, 0, false, io.EOF
	}
	end = o.Size()
	e, found := state.at(off)
	if found && e.Off <= off {
		return e.Off, e.end(), e.Zero, nil
	}
	if found {
		end = e.Off
	}
	start = state.before(off)
	s, t, hole, err := o.base.Next(off)
	return max(start, s), min(end, t), hole, err
}
