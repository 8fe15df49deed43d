package amount

import (
	"errors"
	"fmt"
	"hash/maphash"
	"sync"

	"fundus/core/block"
)

// States counts the cases that a proof saw, and how many of them differ: by the bytes of
// their disks, and whatever else is a part of the state. What sees one state many times
// proves no more by it.
type States struct {
	mu    sync.Mutex
	once  sync.Once
	seed  maphash.Seed
	seen  map[uint64]bool
	cases int
}

// See counts the disk, together with what else distinguishes the case, and reports whether it
// is the first such one.
func (s *States) See(dev block.Device, also ...string) (first bool, err error) {
	s.once.Do(func() { s.seed, s.seen = maphash.MakeSeed(), map[uint64]bool{} })
	var h maphash.Hash
	h.SetSeed(s.seed)
	for _, text := range also {
		_, _ = h.WriteString(text + "\x00")
	}
	for off := int64(0); off < dev.Size(); {
		_, end, hole, err := dev.Next(off)
		if err != nil {
			return false, err
		}
		if end = min(end, (off/piece+1)*piece); !hole {
			b, err := block.ReadSized(dev, off, end-off, piece)
			if err != nil {
				return false, err
			}
			if !block.IsZero(b) { // zeros that are stored are no other state than a hole
				_, errPlace := fmt.Fprint(&h, off, " ")
				_, errBytes := h.Write(b)
				if err := errors.Join(errPlace, errBytes); err != nil {
					return false, err
				}
			}
		}
		off = end
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	sum := h.Sum64()
	first = !s.seen[sum]
	s.cases++
	s.seen[sum] = true
	return first, nil
}

// piece is what is read at once.
const piece = 4 << 10

// String is what a closing line says.
func (s *States) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return fmt.Sprintf("%d cases, %d different states", s.cases, len(s.seen))
}
