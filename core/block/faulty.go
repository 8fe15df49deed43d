package block

import (
	"errors"
	"math/rand/v2"
	"slices"
)

// Errors that a Faulty device injects.
var (
	// ErrInjected is a failed write or sync; the device goes on working.
	ErrInjected = errors.New("input/output error (injected)")
	// ErrPowerLost is what everything answers once the power was cut.
	ErrPowerLost = errors.New("power lost (injected)")
)

// Fault is what a Faulty device does wrong. Operations are counted from 0;
// writes, zeroings and syncs count, reads do not. The zero value with Never in
// the counters does nothing wrong.
type Fault struct {
	FailAt int    // this operation fails; Never for none
	CutAt  int    // the power goes before this operation; Never for none
	Seed   uint64 // decides what of the unsynced writes survives a cut
	// Reads that touch this byte fail; Never for none.
	ReadErrorAt int64
}

// Never switches one fault off.
const Never = -1

// NoFault is a Fault that does nothing wrong.
var NoFault = Fault{FailAt: Never, CutAt: Never, ReadErrorAt: Never}

// Faulty wraps a device and models what a drive with a volatile cache may do.
// Writes stay in the cache until a sync. When the power is cut, each physical
// sector of each unsynced write survives or not by a seeded choice, in any
// order: so writes are torn at the physical sector, dropped and reordered, but
// never those before the last sync.
type Faulty struct {
	base  Device
	fault Fault
	cache []cached
	ops   int
	hit   int
	dead  bool
}

type cached struct {
	off  int64
	data []byte // nil for zeros
	n    int64
}

var _ Device = (*Faulty)(nil)

// NewFaulty wraps the device, which holds what is durable.
func NewFaulty(base Device, fault Fault) *Faulty { return &Faulty{base: base, fault: fault} }

// Hits is how many faults were injected, so that a test can tell that its
// fault happened at all.
func (f *Faulty) Hits() int { return f.hit }

// operation counts one operation and injects what is due.
func (f *Faulty) operation() error {
	if f.dead {
		return ErrPowerLost
	}
	n := f.ops
	f.ops++
	switch n {
	case f.fault.CutAt:
		f.hit++
		f.dead = true
		if err := f.losePower(); err != nil {
			return err
		}
		return ErrPowerLost
	case f.fault.FailAt:
		f.hit++
		return ErrInjected
	}
	return nil
}

// losePower lets a seeded choice of the cached sectors reach the device, in a
// seeded order, and drops the others.
func (f *Faulty) losePower() error {
	rng := rand.New(rand.NewPCG(f.fault.Seed, uint64(f.fault.CutAt)))
	pieces := f.sectors()
	keep := rng.IntN(5) // of 4: none .. all, so that both extremes occur
	rng.Shuffle(len(pieces), func(i, j int) { pieces[i], pieces[j] = pieces[j], pieces[i] })
	for _, piece := range pieces {
		if rng.IntN(4) >= keep {
			continue
		}
		if err := piece.to(f.base); err != nil {
			return err
		}
	}
	f.cache = nil
	return f.base.Sync()
}

// sectors cuts the cached writes at the borders of physical sectors.
func (f *Faulty) sectors() []cached {
	size := max(f.Geometry().Physical, f.Geometry().Logical, 512)
	var pieces []cached
	for _, c := range f.cache {
		if c.data == nil && c.n > 1<<20 { // a long zeroing is one command
			pieces = append(pieces, c)
			continue
		}
		for at := int64(0); at < c.n; {
			n := min(c.n-at, size-(c.off+at)%size)
			piece := cached{off: c.off + at, n: n}
			if c.data != nil {
				piece.data = c.data[at : at+n]
			}
			pieces = append(pieces, piece)
			at += n
		}
	}
	return pieces
}

func (c cached) to(d Device) error {
	if c.data == nil {
		return d.WriteZeroes(c.off, c.n)
	}
	_, err := d.WriteAt(c.data, c.off)
	return err
}

// ReadAt reads through the cache.
func (f *Faulty) ReadAt(p []byte, off int64) (int, error) {
	if f.dead {
		return 0, ErrPowerLost
	}
	if bad := f.fault.ReadErrorAt; bad >= off && bad < off+int64(len(p)) {
		f.hit++
		return 0, &AccessError{"read", off, int64(len(p)), ErrInjected}
	}
	n, err := f.base.ReadAt(p, off)
	for _, c := range f.cache {
		from, to := max(off, c.off), min(off+int64(n), c.off+c.n)
		if from >= to {
			continue
		}
		if c.data == nil {
			clear(p[from-off : to-off])
		} else {
			copy(p[from-off:to-off], c.data[from-c.off:])
		}
	}
	return n, err
}

// WriteAt puts p into the cache.
func (f *Faulty) WriteAt(p []byte, off int64) (int, error) {
	if err := CheckAccess(f, "write", off, int64(len(p))); err != nil {
		return 0, err
	}
	if err := f.operation(); err != nil {
		return 0, &AccessError{"write", off, int64(len(p)), err}
	}
	f.cache = append(f.cache, cached{off, slices.Clone(p), int64(len(p))})
	return len(p), nil
}

// WriteZeroes puts a zeroing into the cache.
func (f *Faulty) WriteZeroes(off, n int64) error {
	if err := CheckAccess(f, "zero", off, n); err != nil {
		return err
	}
	if err := f.operation(); err != nil {
		return &AccessError{"zero", off, n, err}
	}
	f.cache = append(f.cache, cached{off, nil, n})
	return nil
}

// Sync makes everything cached durable.
func (f *Faulty) Sync() error {
	if err := f.operation(); err != nil {
		return err
	}
	for _, c := range f.cache {
		if err := c.to(f.base); err != nil {
			return err
		}
	}
	f.cache = nil
	return f.base.Sync()
}

// Next asks the device below; what is cached counts as data.
func (f *Faulty) Next(off int64) (start, end int64, hole bool, err error) {
	if f.dead {
		return 0, 0, false, ErrPowerLost
	}
	start, end, hole, err = f.base.Next(off)
	if hole && len(f.cache) > 0 {
		hole = false
	}
	return start, end, hole, err
}

// Size in bytes.
func (f *Faulty) Size() int64 { return f.base.Size() }

// Geometry is that of the device below.
func (f *Faulty) Geometry() Geometry { return f.base.Geometry() }

// Close drops nothing: as with a real drive, what is cached still reaches the
// medium while there is power.
func (f *Faulty) Close() error {
	for _, c := range f.cache {
		if f.dead {
			break
		}
		if err := c.to(f.base); err != nil {
			return err
		}
	}
	f.cache = nil
	return f.base.Close()
}
