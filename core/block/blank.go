package block

// Where a device is sampled. Its first MiB are read in one go: tables lie there, and the
// superblock of a first partition that begins after one MiB, which is what is left where a
// table was wiped. The places behind lie at equal distances; copies of a table are at the
// end. Of a sparse file each run of data is looked at, since nothing else is in it.
const (
	sampleHead   = 4 << 20
	sampleTail   = 1 << 20
	samplePiece  = 64 << 10
	samplePlaces = 30
	sampleRuns   = 256

	smallSize  = 64 << 20
	smallHead  = 384 << 10
	smallTail  = 128 << 10
	smallPiece = 8 << 10
)

// Blank reports whether every sampled place of the device reads as zeros. What cannot be
// read is not blank: nobody knows what is there.
func Blank(dev Device) bool {
	s := sampler{dev: dev, size: dev.Size()}
	head, tail, piece := int64(sampleHead), int64(sampleTail), int64(samplePiece)
	if s.size < smallSize { // of thousands of small ones a MiB each is enough
		head, tail, piece = smallHead, smallTail, smallPiece
		if !s.zero(1<<20, samplePiece) { // where a first partition usually begins
			return false
		}
	}
	if !s.zero(0, head) || !s.zero(s.size-tail, tail) || !s.runs() {
		return false
	}
	for i := int64(1); i <= samplePlaces; i++ {
		if !s.zero(s.size/(samplePlaces+1)*i, piece) {
			return false
		}
	}
	return true
}

type sampler struct {
	dev  Device
	size int64
}

// runs looks at the beginning and the end of each run of data, in their order.
func (s sampler) runs() bool {
	for off, n := int64(0), 0; off < s.size && n < sampleRuns; n++ {
		_, end, hole, err := s.dev.Next(off)
		if err != nil || end <= off {
			return false
		}
		if !hole && (!s.zero(off, samplePiece) || !s.zero(end-samplePiece, samplePiece)) {
			return false
		}
		off = end
	}
	return true
}

// zero reads n bytes, as far as the device has them, without what is not stored.
func (s sampler) zero(at, n int64) bool {
	at = max(at, 0)
	for end := min(at+n, s.size); at < end; {
		_, run, hole, err := s.dev.Next(at)
		if err != nil || run <= at {
			return false
		}
		if hole {
			at = run
			continue
		}
		piece := min(end-at, run-at, samplePiece)
		b, err := ReadSized(s.dev, at, piece, samplePiece)
		if err != nil || !IsZero(b) {
			return false
		}
		at += piece
	}
	return true
}
