package block

import "io"

// Slice is a part of a device, such as a partition of a disk. Closing it
// leaves the device open.
type Slice struct {
	dev    Device
	off, n int64
}

var _ Device = (*Slice)(nil)

// NewSlice gives the n bytes from off, or an error where they do not lie on
// the device.
func NewSlice(dev Device, off, n int64) (*Slice, error) {
	if err := CheckAccess(dev, "read", off, n); err != nil {
		return nil, err
	}
	return &Slice{dev, off, n}, nil
}

// Offset is where the slice begins on its device, in bytes.
func (s *Slice) Offset() int64 { return s.off }

// ReadAt reads from the slice; it never reads past its end.
func (s *Slice) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 || off > s.n {
		return 0, &AccessError{"read", off, int64(len(p)), ErrRange}
	}
	if room := s.n - off; int64(len(p)) > room {
		n, err := s.dev.ReadAt(p[:room], s.off+off)
		if err == nil {
			err = io.EOF
		}
		return n, err
	}
	return s.dev.ReadAt(p, s.off+off)
}

// WriteAt writes inside the slice or refuses.
func (s *Slice) WriteAt(p []byte, off int64) (int, error) {
	if err := CheckAccess(s, "write", off, int64(len(p))); err != nil {
		return 0, err
	}
	return s.dev.WriteAt(p, s.off+off)
}

// Take passes on bytes that are given away.
func (s *Slice) Take(p []byte, off int64) error {
	if err := CheckAccess(s, "write", off, int64(len(p))); err != nil {
		return err
	}
	return Give(s.dev, p, s.off+off)
}

// WriteZeroes zeroes inside the slice or refuses.
func (s *Slice) WriteZeroes(off, n int64) error {
	if err := CheckAccess(s, "zero", off, n); err != nil {
		return err
	}
	return s.dev.WriteZeroes(s.off+off, n)
}

// Next gives the device's runs, cut to the slice.
func (s *Slice) Next(off int64) (start, end int64, hole bool, err error) {
	if off >= s.n {
		return 0, 0, false, io.EOF
	}
	start, end, hole, err = s.dev.Next(s.off + off)
	if err != nil {
		return 0, 0, false, err
	}
	return max(start-s.off, 0), min(end-s.off, s.n), hole, nil
}

// Size is the length of the slice in bytes.
func (s *Slice) Size() int64 { return s.n }

// Geometry is that of the device, its alignment offset too: it counts from where the device
// begins.
func (s *Slice) Geometry() Geometry { return s.dev.Geometry() }

// Sync syncs the device; on an overlay it closes a phase.
func (s *Slice) Sync() error { return s.dev.Sync() }

// Close does nothing: the device is its owner's.
func (s *Slice) Close() error { return nil }
