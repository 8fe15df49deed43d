package block

import "io"

// Zero is a device of a given size that holds nothing but zeros and refuses
// writing. Under an Overlay it is a disk in memory of any size.
type Zero struct {
	Bytes int64
	Geo   Geometry
}

var _ Device = Zero{}

// NewMemory is an all-zero disk in memory: an overlay over a Zero.
func NewMemory(size int64, geo Geometry) *Overlay { return NewOverlay(Zero{size, geo}, Spill{}) }

// ReadAt gives zeros.
func (z Zero) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 || off > z.Bytes {
		return 0, &AccessError{"read", off, int64(len(p)), ErrRange}
	}
	n := min(int64(len(p)), z.Bytes-off)
	clear(p[:n])
	if n < int64(len(p)) {
		return int(n), io.EOF
	}
	return int(n), nil
}

// WriteAt refuses.
func (z Zero) WriteAt(p []byte, off int64) (int, error) {
	return 0, &AccessError{"write", off, int64(len(p)), ErrReadOnly}
}

// WriteZeroes refuses.
func (z Zero) WriteZeroes(off, n int64) error { return &AccessError{"zero", off, n, ErrReadOnly} }

// Next gives one hole.
func (z Zero) Next(off int64) (start, end int64, hole bool, err error) {
	if off >= z.Bytes {
		return 0, 0, false, io.EOF
	}
	return 0, z.Bytes, true, nil
}

// Size in bytes.
func (z Zero) Size() int64 { return z.Bytes }

// Geometry as given.
func (z Zero) Geometry() Geometry { return z.Geo }

// Sync does nothing.
func (z Zero) Sync() error { return nil }

// Close does nothing.
func (z Zero) Close() error { return nil }
