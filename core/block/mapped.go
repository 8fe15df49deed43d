package block

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"slices"
)

// Run is a stretch of a mapped device, from where the one before it ends. Without a piece all of it
// lies at one place; else it lies in turns over the places: the first piece at the first one, the
// second at the second, and behind the last the next piece of the first.
type Run struct {
	Len   int64   `json:"length"`          // bytes
	Piece int64   `json:"piece,omitempty"` // bytes
	On    []Place `json:"on"`
}

// Place is where bytes begin, on one of the devices.
type Place struct {
	Device int   `json:"device"`
	Off    int64 `json:"offset"` // bytes
}

// Mapped is a device whose bytes lie on others, in runs: what a logical volume is. Closing it
// leaves the devices open.
type Mapped struct {
	devices []Device
	runs    []Run
	starts  []int64 // of each run, and the end of the last
	geo     Geometry
}

var _ Device = (*Mapped)(nil)

// ErrMapping is a mapping that is none.
var ErrMapping = errors.New("not a mapping")

// NewMapped puts a device together. Refused (ErrMapping) is a run without bytes or places, one off
// the largest logical sector of the devices, one in turns that ends within a turn, one that reaches
// past a device, and two that lie on the same bytes.
//
// Its sectors are the largest of the devices that it uses; where it lies in turns, the piece is the
// least I/O that is worth while and a whole turn the best one, as the kernel has it.
func NewMapped(devices []Device, runs []Run) (*Mapped, error) {
	m := &Mapped{devices: devices, runs: runs, starts: []int64{0}}
	taken := make([][]claimed, len(devices))
	for i, r := range runs {
		if !r.whole() {
			return nil, fmt.Errorf("run %d, of %d bytes in pieces of %d at %d places: %w", i, r.Len, r.Piece, len(r.On), ErrMapping)
		}
		each := r.Len / int64(len(r.On))
		for _, p := range r.On {
			if p.Device < 0 || p.Device >= len(devices) || p.Off < 0 || each > devices[p.Device].Size()-p.Off {
				return nil, fmt.Errorf("run %d, %d bytes at byte %d of device %d: %w: they are not there", i, each, p.Off, p.Device, ErrMapping)
			}
			taken[p.Device] = append(taken[p.Device], claimed{i, p.Off, p.Off + each})
			m.stack(devices[p.Device].Geometry(), r)
		}
		m.starts = append(m.starts, m.starts[i]+r.Len)
	}
	if len(runs) == 0 {
		return nil, fmt.Errorf("it has no runs: %w", ErrMapping)
	}
	return m, errors.Join(m.aligned(), apart(taken))
}

// whole reports whether the run has bytes and places, and ends with a turn.
func (r Run) whole() bool {
	places := int64(len(r.On))
	switch {
	case r.Len <= 0 || places == 0 || r.Piece < 0:
		return false
	case r.Piece == 0:
		return places == 1
	}
	return r.Piece <= r.Len/places && r.Len%(r.Piece*places) == 0
}

// stack takes a device that a run uses into the geometry.
func (m *Mapped) stack(g Geometry, r Run) {
	m.geo.Logical, m.geo.Physical = max(m.geo.Logical, g.Logical), max(m.geo.Physical, g.Physical)
	least, best := g.MinIO, g.OptIO
	if r.Piece > 0 && len(r.On) > 1 {
		least, best = max(r.Piece, least), r.Piece*int64(len(r.On))
	}
	m.geo.MinIO, m.geo.OptIO = max(m.geo.MinIO, least), max(m.geo.OptIO, best)
}

// aligned refuses runs off the sectors.
func (m *Mapped) aligned() error {
	s := max(m.geo.Logical, 1)
	for i, r := range m.runs {
		odd := r.Len%s != 0 || r.Piece%s != 0
		for _, p := range r.On {
			odd = odd || p.Off%s != 0
		}
		if odd {
			return fmt.Errorf("run %d is off the sectors of %d bytes: %w", i, s, ErrMapping)
		}
	}
	return nil
}

// claimed are the bytes of a device that a run lies on.
type claimed struct {
	run        int
	start, end int64
}

// apart refuses two runs on the same bytes.
func apart(taken [][]claimed) error {
	for device, list := range taken {
		slices.SortFunc(list, func(a, b claimed) int { return cmp.Compare(a.start, b.start) })
		for i := 1; i < len(list); i++ {
			if list[i].start < list[i-1].end {
				return fmt.Errorf("runs %d and %d both are at byte %d of device %d: %w", list[i-1].run, list[i].run, list[i].start, device, ErrMapping)
			}
		}
	}
	return nil
}

// stretch is a part of the mapped device that lies together on one of the devices: n bytes.
type stretch struct{ device, off, n int64 }

// run is the one that a byte lies in, and where it begins.
func (m *Mapped) run(off int64) (r Run, start int64) {
	i, found := slices.BinarySearch(m.starts, off)
	if !found {
		i--
	}
	return m.runs[i], m.starts[i]
}

// at is the stretch from a byte on, as long as it lies together.
func (m *Mapped) at(off int64) stretch {
	r, start := m.run(off)
	in := off - start
	if r.Piece == 0 {
		return stretch{int64(r.On[0].Device), r.On[0].Off + in, r.Len - in}
	}
	turn, within := in/r.Piece, in%r.Piece
	p := r.On[turn%int64(len(r.On))]
	return stretch{int64(p.Device), p.Off + turn/int64(len(r.On))*r.Piece + within, r.Piece - within}
}

// ReadAt reads; it never reads past the end.
func (m *Mapped) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 || off > m.Size() {
		return 0, &AccessError{"read", off, int64(len(p)), ErrRange}
	}
	want := min(int64(len(p)), m.Size()-off)
	for done := int64(0); done < want; {
		s := m.at(off + done)
		n := min(s.n, want-done)
		if err := ReadFull(m.devices[s.device], p[done:done+n], s.off); err != nil {
			return int(done), err
		}
		done += n
	}
	if want < int64(len(p)) {
		return int(want), io.EOF
	}
	return int(want), nil
}

// WriteAt writes inside the device or refuses.
func (m *Mapped) WriteAt(p []byte, off int64) (int, error) {
	if err := CheckAccess(m, "write", off, int64(len(p))); err != nil {
		return 0, err
	}
	for done := int64(0); done < int64(len(p)); {
		s := m.at(off + done)
		n := min(s.n, int64(len(p))-done)
		if _, err := m.devices[s.device].WriteAt(p[done:done+n], s.off); err != nil {
			return int(done), err
		}
		done += n
	}
	return len(p), nil
}

// WriteZeroes zeroes inside the device or refuses: of whole turns, each device at once.
func (m *Mapped) WriteZeroes(off, n int64) error {
	if err := CheckAccess(m, "zero", off, n); err != nil {
		return err
	}
	for end := off + n; off < end; {
		if done, err := m.zeroTurns(off, end-off); err != nil {
			return err
		} else if done > 0 {
			off += done
			continue
		}
		s := m.at(off)
		s.n = min(s.n, end-off)
		if err := m.devices[s.device].WriteZeroes(s.off, s.n); err != nil {
			return err
		}
		off += s.n
	}
	return nil
}

// zeroTurns zeroes the whole turns with which a range begins, and says how many bytes those are.
func (m *Mapped) zeroTurns(off, n int64) (int64, error) {
	r, start := m.run(off)
	in := off - start
	turn := r.Piece * int64(len(r.On))
	if r.Piece == 0 || in%turn != 0 {
		return 0, nil
	}
	turns := min(n, r.Len-in) / turn
	if turns == 0 {
		return 0, nil
	}
	for _, p := range r.On {
		if err := m.devices[p.Device].WriteZeroes(p.Off+in/turn*r.Piece, turns*r.Piece); err != nil {
			return 0, err
		}
	}
	return turns * turn, nil
}

// Next gives the devices' runs. In turns, one is as long as it is on all of the devices, where
// those agree; else it ends with the piece.
func (m *Mapped) Next(off int64) (start, end int64, hole bool, err error) {
	if off >= m.Size() {
		return 0, 0, false, io.EOF
	}
	s := m.at(off)
	_, stop, hole, err := m.devices[s.device].Next(s.off)
	if err != nil {
		return 0, 0, false, err
	}
	end = off + min(s.n, stop-s.off)
	if stop-s.off < s.n {
		return off, end, hole, nil
	}
	further, err := m.alike(off, hole)
	return off, max(end, further), hole, err
}

// alike is how far a run in turns is all holes, or all data; 0 where the devices differ.
func (m *Mapped) alike(off int64, hole bool) (int64, error) {
	r, start := m.run(off)
	in := off - start
	if r.Piece == 0 || len(r.On) < 2 {
		return 0, nil
	}
	first, end := in/r.Piece, r.Len
	for k := range int64(len(r.On)) { // the pieces that come next, each on another device
		piece := first + k
		if piece*r.Piece >= r.Len {
			break
		}
		p := r.On[piece%int64(len(r.On))]
		row := piece / int64(len(r.On))
		at := p.Off + row*r.Piece
		if k == 0 {
			at += in % r.Piece
		}
		_, stop, other, err := m.devices[p.Device].Next(at)
		if err != nil || other != hole {
			return 0, err
		}
		// The first piece of this device that is not all alike, as a place of the whole.
		rows := (stop - p.Off) / r.Piece
		end = min(end, (rows*int64(len(r.On))+piece%int64(len(r.On)))*r.Piece)
	}
	return start + end, nil
}

// Size is the sum of the runs, in bytes.
func (m *Mapped) Size() int64 { return m.starts[len(m.starts)-1] }

// Geometry is that of the devices together; see NewMapped.
func (m *Mapped) Geometry() Geometry { return m.geo }

// Sync syncs each device that is used, once.
func (m *Mapped) Sync() error {
	var errs []error
	done := map[int]bool{}
	for _, r := range m.runs {
		for _, p := range r.On {
			if !done[p.Device] {
				done[p.Device] = true
				errs = append(errs, m.devices[p.Device].Sync())
			}
		}
	}
	return errors.Join(errs...)
}

// Close does nothing: the devices are their owner's.
func (m *Mapped) Close() error { return nil }
