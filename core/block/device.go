// Package block treats devices as arrays of bytes with a geometry.
//
// A Device is the one thing that everything else in core reads and writes:
// an image file or a block device (package file), a part of another device
// (Slice), a copy-on-write view (Overlay), or a device that fails on purpose
// (Faulty). All positions and lengths are int64 bytes and, for writes,
// multiples of the logical sector.
package block

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// Geometry is what a device says of itself, in bytes; 0 where it says nothing.
type Geometry struct {
	Logical  int64 `json:"logical_sector_bytes" yaml:"logical"`
	Physical int64 `json:"physical_sector_bytes" yaml:"physical"`
	MinIO    int64 `json:"minimal_io_bytes,omitempty" yaml:"minimal_io,omitempty"`
	OptIO    int64 `json:"optimal_io_bytes,omitempty" yaml:"optimal_io,omitempty"`
	Offset   int64 `json:"alignment_offset_bytes,omitempty" yaml:"alignment_offset,omitempty"`
}

// DefaultGeometry is that of an image file of which nothing else is known.
var DefaultGeometry = Geometry{Logical: 512, Physical: 512}

// Device is an array of bytes with a geometry. Offsets and lengths are
// multiples of the logical sector when writing.
type Device interface {
	io.ReaderAt
	io.WriterAt
	// WriteZeroes makes n bytes from off read as zeros: without unmapping on a
	// block device, by punching a hole in a file. It never discards.
	WriteZeroes(off, n int64) error
	// Next returns the run that contains off. A hole reads as zeros and is not
	// stored. At the end it returns io.EOF; where nothing is known, one run of
	// data up to the end.
	Next(off int64) (start, end int64, hole bool, err error)
	Size() int64 // bytes
	Geometry() Geometry
	Sync() error
	Close() error
}

// Errors of devices.
var (
	ErrRange     = errors.New("beyond the end of the device")
	ErrUnaligned = errors.New("not a multiple of the logical sector")
	ErrReadOnly  = errors.New("opened for reading only")
	ErrLimit     = errors.New("longer than its limit")
)

// AccessError is a read or write that a device refused or failed.
type AccessError struct {
	Op  string // "read", "write", "zero"
	Off int64  // bytes
	N   int64  // bytes
	Err error
}

func (e *AccessError) Error() string {
	return fmt.Sprintf("%s of %d bytes at byte %d: %v", e.Op, e.N, e.Off, e.Err)
}

// Unwrap gives the cause.
func (e *AccessError) Unwrap() error { return e.Err }

// CheckAccess refuses what lies outside the device, and for writes what is
// off the logical sector.
func CheckAccess(d Device, op string, off, n int64) error {
	if off < 0 || n < 0 || n > d.Size() || off > d.Size()-n {
		return &AccessError{op, off, n, ErrRange}
	}
	if s := d.Geometry().Logical; op != "read" && s > 0 && (off%s != 0 || n%s != 0) {
		return &AccessError{op, off, n, ErrUnaligned}
	}
	return nil
}

// ReadSized reads exactly n bytes at off. A length that comes from a disk goes
// through here: it is refused above limit, and memory is taken only as the
// bytes arrive. An end within the n bytes is io.ErrUnexpectedEOF.
func ReadSized(d io.ReaderAt, off, n, limit int64) ([]byte, error) {
	if off < 0 || n < 0 || n > limit {
		return nil, &AccessError{"read", off, n, ErrLimit}
	}
	if e, ok := d.(*Ends); ok {
		if b, ok := e.view(off, n); ok {
			return b, nil
		}
	}
	const chunk = 1 << 20
	if n <= chunk {
		buf := make([]byte, n)
		return buf, ReadFull(d, buf, off)
	}
	buf := make([]byte, 0, chunk)
	for int64(len(buf)) < n {
		part := min(n-int64(len(buf)), chunk)
		at := len(buf)
		buf = append(buf, make([]byte, part)...)
		if err := ReadFull(d, buf[at:], off+int64(at)); err != nil {
			return nil, err
		}
	}
	return buf, nil
}

// ReadFull fills p from off or returns an error; short reads are carried on.
func ReadFull(d io.ReaderAt, p []byte, off int64) error {
	for done := 0; done < len(p); {
		n, err := d.ReadAt(p[done:], off+int64(done))
		done += n
		if done == len(p) {
			return nil
		}
		if err == io.EOF || err == nil && n == 0 {
			return &AccessError{"read", off, int64(len(p)), io.ErrUnexpectedEOF}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// WriteBytes writes p at off, where neither needs to be on a sector: the rest
// of the first and last sector is read and kept.
func WriteBytes(d Device, p []byte, off int64) error {
	s := max(d.Geometry().Logical, 1)
	start, end := off-off%s, off+int64(len(p))
	if rest := end % s; rest != 0 {
		end += s - rest
	}
	if start == off && end == off+int64(len(p)) {
		_, err := d.WriteAt(p, off)
		return err
	}
	buf, err := ReadSized(d, start, end-start, end-start)
	if err != nil {
		return err
	}
	copy(buf[off-start:], p)
	_, err = d.WriteAt(buf, start)
	return err
}

// Give writes p like WriteBytes and gives it away: the caller does not change it
// again, so that an overlay need not copy it.
func Give(d Device, p []byte, off int64) error {
	s := max(d.Geometry().Logical, 1)
	if t, ok := d.(interface {
		Take(p []byte, off int64) error
	}); ok && off%s == 0 && int64(len(p))%s == 0 {
		return t.Take(p, off)
	}
	return WriteBytes(d, p, off)
}

// regarded is a device that is taken to have another geometry.
type regarded struct {
	Device
	geo Geometry
}

func (r regarded) Geometry() Geometry { return r.geo }

// Regard gives the device another geometry: that of the disk whose bytes an image holds.
func Regard(d Device, geo Geometry) Device { return regarded{d, geo} }

// readOnly is a device that is only looked at.
type readOnly struct{ Device }

func (r readOnly) WriteAt(p []byte, off int64) (int, error) {
	return 0, &AccessError{"write", off, int64(len(p)), ErrReadOnly}
}

func (r readOnly) WriteZeroes(off, n int64) error { return &AccessError{"zero", off, n, ErrReadOnly} }

// Close leaves the device open: it is somebody else's.
func (r readOnly) Close() error { return nil }

// ZeroUntil is the end of the run of zeros from off on that is known without reading.
func (r readOnly) ZeroUntil(off int64) int64 {
	if _, end, hole, err := r.Next(off); err == nil && hole {
		return end
	}
	return off
}

// ReadOnly gives the device for looking at alone.
func ReadOnly(d Device) Device { return readOnly{d} }

// IsZero reports whether all of p is zero.
func IsZero(p []byte) bool {
	le := binary.LittleEndian
	for len(p) >= 64 {
		if le.Uint64(p)|le.Uint64(p[8:])|le.Uint64(p[16:])|le.Uint64(p[24:])|le.Uint64(p[32:])|le.Uint64(p[40:])|le.Uint64(p[48:])|le.Uint64(p[56:]) != 0 {
			return false
		}
		p = p[64:]
	}
	for _, b := range p {
		if b != 0 {
			return false
		}
	}
	return true
}
