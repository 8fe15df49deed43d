package block

import "testing"

// stored is a device that says of all its zeros that they are stored, as a disk does.
type stored struct {
	Device
	read int64
}

func (s *stored) Next(off int64) (start, end int64, hole bool, err error) {
	return off, s.Size(), false, nil
}

func (s *stored) ReadAt(p []byte, off int64) (int, error) {
	s.read += int64(len(p))
	return s.Device.ReadAt(p, off)
}

// TestBlankReadsLittle: a small device is told to be empty by a MiB at most, and one byte where a
// first partition begins is seen.
func TestBlankReadsLittle(t *testing.T) {
	for _, size := range []int64{4 << 20, 63 << 20} {
		dev := &stored{Device: NewMemory(size, DefaultGeometry)}
		if !Blank(dev) || dev.read > 1<<20 {
			t.Errorf("%d bytes: blank %v, %d bytes read", size, Blank(dev), dev.read)
		}
		if err := WriteBytes(dev.Device, []byte{1}, 1<<20+1080); err != nil {
			t.Fatal(err)
		}
		if Blank(dev) {
			t.Errorf("%d bytes: a byte of a first superblock is not seen", size)
		}
	}
}
