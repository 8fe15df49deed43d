package block

import (
	"fmt"
	"io"
	"slices"
	"sort"
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
}

// DefaultCeiling is how many bytes of written data an overlay keeps in memory
// where somebody gave it a place to spill to.
const DefaultCeiling = 256 << 20

// Overlay is a copy-on-write view of a device: reads fall through, writes stay
// here. Sync closes a phase: extents merge inside a phase only, and whoever
// carries the overlay out does so phase by phase with a real sync between.
//
// Invariant: inside a phase, extents are sorted and do not overlap.
type Overlay struct {
	base   Device
	phases [][]Extent // the last one is open
	spill  Spill
	file   SpillFile
	inMem  int64
	onFile int64
}

var _ Device = (*Overlay)(nil)

// NewOverlay puts an empty overlay over the device, which it never writes to.
func NewOverlay(base Device, spill Spill) *Overlay {
	return &Overlay{base: base, phases: make([][]Extent, 1), spill: spill}
}

// Size in bytes.
func (o *Overlay) Size() int64 { return o.base.Size() }

// Geometry is that of the device below.
func (o *Overlay) Geometry() Geometry { return o.base.Geometry() }

// Phases is how many phases were closed.
func (o *Overlay) Phases() int { return len(o.phases) - 1 }

// Phase lists the extents of closed phase i in order of their offset.
func (o *Overlay) Phase(i int) []Extent { return o.phases[i] }

// Held is how many bytes of data the overlay holds in memory and in its spill
// file.
func (o *Overlay) Held() (memory, spilled int64) { return o.inMem, o.onFile }

// Sync closes the open phase. Without writes since the last one it does
// nothing.
func (o *Overlay) Sync() error {
	if last := len(o.phases) - 1; len(o.phases[last]) > 0 {
		o.phases = append(o.phases, nil)
	}
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
	if o.spill.Open != nil && o.spill.Ceiling > 0 && o.inMem+e.Len > o.spill.Ceiling {
		if err := o.toFile(&e, p); err != nil {
			return err
		}
	} else {
		e.data = keep(p)
		o.inMem += e.Len
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

// insert puts e into the open phase in place of whatever it covers there.
func (o *Overlay) insert(e Extent) {
	last := len(o.phases) - 1
	list := o.phases[last]
	from := firstBehind(list, e.Off)
	to := from
	var before, behind []Extent
	for ; to < len(list) && list[to].Off < e.end(); to++ {
		old := list[to]
		if old.Off < e.Off {
			before = append(before, old.part(old.Off, e.Off))
		}
		if old.end() > e.end() {
			behind = append(behind, old.part(e.end(), old.end()))
		}
		if old.data != nil {
			o.inMem -= overlap(old, e)
		}
	}
	if len(before) == 0 && e.Zero && from > 0 && list[from-1].Zero && list[from-1].end() == e.Off {
		from--
		e.Off, e.Len = list[from].Off, list[from].Len+e.Len
	}
	o.phases[last] = slices.Replace(list, from, to, slices.Concat(before, []Extent{e}, behind)...)
}

func overlap(a, b Extent) int64 { return min(a.end(), b.end()) - max(a.Off, b.Off) }

// firstBehind is the index of the first extent that ends behind off.
func firstBehind(list []Extent, off int64) int {
	return sort.Search(len(list), func(i int) bool { return list[i].end() > off })
}

// ReadAt reads the newest bytes: of the open phase, else of the phases before,
// else of the device.
func (o *Overlay) ReadAt(p []byte, off int64) (int, error) {
	return o.readUpTo(len(o.phases), p, off)
}

// readUpTo reads as things were after the first n phases.
func (o *Overlay) readUpTo(n int, p []byte, off int64) (int, error) {
	if off < 0 || off > o.Size() {
		return 0, &AccessError{"read", off, int64(len(p)), ErrRange}
	}
	want := min(int64(len(p)), o.Size()-off)
	if err := o.fill(n-1, p[:want], off); err != nil {
		return 0, err
	}
	if want < int64(len(p)) {
		return int(want), io.EOF
	}
	return int(want), nil
}

// fill reads p from phase n and, between its extents, from those below.
func (o *Overlay) fill(n int, p []byte, off int64) error {
	for n >= 0 && len(o.phases[n]) == 0 {
		n--
	}
	if n < 0 {
		if len(p) == 0 {
			return nil
		}
		return ReadFull(o.base, p, off)
	}
	list, end := o.phases[n], off+int64(len(p))
	for i := firstBehind(list, off); off < end; i++ {
		stop := end
		if i < len(list) {
			stop = min(end, max(off, list[i].Off))
		}
		if stop > off {
			if err := o.fill(n-1, p[:stop-off], off); err != nil {
				return err
			}
			p, off = p[stop-off:], stop
		}
		if off == end || i >= len(list) {
			continue
		}
		stop = min(end, list[i].end())
		if err := o.Data(list[i].part(off, stop), p[:stop-off]); err != nil {
			return err
		}
		p, off = p[stop-off:], stop
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
func (o *Overlay) After(n int) io.ReaderAt { return phaseView{o, n} }

type phaseView struct {
	o *Overlay
	n int
}

func (v phaseView) ReadAt(p []byte, off int64) (int, error) { return v.o.readUpTo(v.n, p, off) }

// ZeroUntil is the end of the run of zeros that begins at off and is known
// without reading; off itself where nothing is known.
func (v phaseView) ZeroUntil(off int64) int64 {
	_, end, hole, err := v.o.nextUpTo(v.n, off)
	if err != nil || !hole {
		return off
	}
	return end
}

// Held gives the bytes of the range without copying, where one write that is
// still in memory covers all of it; else nil. Nobody changes them.
func (v phaseView) Held(off, n int64) []byte {
	for i := v.n - 1; i >= 0; i-- {
		list := v.o.phases[i]
		k := firstBehind(list, off)
		if k == len(list) || list[k].Off >= off+n {
			continue
		}
		if e := list[k]; e.data != nil && e.Off <= off && off+n <= e.end() {
			return e.data[off-e.Off : off-e.Off+n]
		}
		return nil
	}
	return nil
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
	return o.nextUpTo(len(o.phases), off)
}

func (o *Overlay) nextUpTo(phases int, off int64) (start, end int64, hole bool, err error) {
	if off >= o.Size() {
		return 0, 0, false, io.EOF
	}
	start, end = 0, o.Size()
	for n := phases - 1; n >= 0; n-- {
		list := o.phases[n]
		i := firstBehind(list, off)
		if i < len(list) && list[i].Off <= off {
			return max(start, list[i].Off), min(end, list[i].end()), list[i].Zero, nil
		}
		if i > 0 {
			start = max(start, list[i-1].end())
		}
		if i < len(list) {
			end = min(end, list[i].Off)
		}
	}
	s, e, hole, err := o.base.Next(off)
	return max(start, s), min(end, e), hole, err
}
