package block

import "sync"

// How much of a device Ends reads together: at its start enough for every
// superblock up to that of 64 KiB pages, at its end for the copies of a GPT.
const (
	endsHead = 68 << 10
	endsTail = 20 << 10
)

// Ends is a device that is looked at: all who ask for its first and its last
// bytes share one read of each. It does not notice later writes, so that it is
// made for one look and dropped.
type Ends struct {
	Device
	head, tail func() []byte
}

// NewEnds wraps the device, unless it is wrapped already.
func NewEnds(dev Device) *Ends {
	var s Scratch
	return s.Ends(dev)
}

// Scratch is memory that is used for one device after the other.
type Scratch struct{ head, tail []byte }

// Ends wraps the device, unless it is wrapped already. What was read of the
// device before is gone with it.
func (s *Scratch) Ends(dev Device) *Ends {
	if e, ok := dev.(*Ends); ok {
		return e
	}
	size := dev.Size()
	load := func(into *[]byte, off, n int64) func() []byte {
		return sync.OnceValue(func() []byte {
			if int64(cap(*into)) < n {
				*into = make([]byte, n)
			}
			b := (*into)[:max(n, 0)]
			if ReadFull(dev, b, off) != nil {
				return nil // a bad sector: each asks for its own bytes
			}
			return b
		})
	}
	sector := max(dev.Geometry().Logical, 1)
	head, tail := min(size, endsHead)/sector*sector, min(size, endsTail)/sector*sector
	return &Ends{dev, load(&s.head, 0, head), load(&s.tail, size-tail, tail)}
}

// ReadAt reads from what was read before, where that holds all of it.
func (e *Ends) ReadAt(p []byte, off int64) (int, error) {
	if b, ok := e.view(off, int64(len(p))); ok {
		return copy(p, b), nil
	}
	return e.Device.ReadAt(p, off)
}

// view gives bytes of what was read before, where that holds all of them. They
// are shared: nobody changes them.
func (e *Ends) view(off, n int64) ([]byte, bool) {
	size := e.Size()
	if off < 0 || n < 0 || n > size || off > size-n {
		return nil, false
	}
	if end := off + n; end <= endsHead {
		if head := e.head(); end <= int64(len(head)) {
			return head[off:end:end], true
		}
	}
	if off >= size-endsTail {
		tail := e.tail()
		if at := off - (size - int64(len(tail))); len(tail) > 0 && at >= 0 {
			return tail[at : at+n : at+n], true
		}
	}
	return nil, false
}
