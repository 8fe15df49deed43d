package block

import (
	"bytes"
	"errors"
	"math/rand/v2"
	"testing"
)

// TestMapped: whatever the runs, together or in turns, each byte is read from where a plain walk
// over the pieces says that it lies, and writes and zeros go there and nowhere else; what is said to
// be a hole is zeros.
func TestMapped(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 11))
	for round := range 200 {
		const size = 96 * 512
		var devices, plain []Device
		for range 1 + rng.IntN(4) {
			devices = append(devices, NewMemory(size, DefaultGeometry))
			plain = append(plain, NewMemory(size, DefaultGeometry))
		}
		var runs []Run
		var where []Place // of each sector, as a walk over the pieces has it
		free := make([]int64, len(devices))
		for range 1 + rng.IntN(4) {
			r, first := Run{}, rng.IntN(len(devices))
			across := 1 + rng.IntN(len(devices))
			if across > 1 || rng.IntN(2) == 0 {
				r.Piece = 512 * int64(1+rng.IntN(3))
			}
			pieces := int64(1 + rng.IntN(4))
			each := pieces * max(r.Piece, 512)
			for k := range across {
				d := (first + k) % len(devices)
				free[d] += 512 * int64(rng.IntN(3))
				r.On = append(r.On, Place{d, free[d]})
				free[d] += each
			}
			r.Len = each * int64(across)
			runs = append(runs, r)
			for turn := range pieces {
				for _, p := range r.On {
					for at := int64(0); at < max(r.Piece, 512); at += 512 {
						where = append(where, Place{p.Device, p.Off + turn*max(r.Piece, 512) + at})
					}
				}
			}
		}
		m, err := NewMapped(devices, runs)
		if err != nil {
			t.Fatalf("round %d: %v", round, err)
		}
		if m.Size() != int64(len(where))*512 {
			t.Fatalf("round %d: %d bytes, want %d", round, m.Size(), len(where)*512)
		}
		for range 30 {
			from := rng.IntN(len(where))
			n := 1 + rng.IntN(len(where)-from)
			if rng.IntN(3) == 0 {
				err = m.WriteZeroes(int64(from)*512, int64(n)*512)
			} else {
				data := make([]byte, n*512)
				for i := range data {
					data[i] = byte(rng.IntN(255) + 1)
				}
				_, err = m.WriteAt(data, int64(from)*512)
				for i := range n {
					if _, err := plain[where[from+i].Device].WriteAt(data[i*512:(i+1)*512], where[from+i].Off); err != nil {
						t.Fatal(err)
					}
				}
				n = 0
			}
			for i := range n {
				if err := plain[where[from+i].Device].WriteZeroes(where[from+i].Off, 512); err != nil {
					t.Fatal(err)
				}
			}
			if err != nil {
				t.Fatal(err)
			}
		}
		for d := range devices {
			got, errGot := ReadSized(devices[d], 0, size, size)
			want, errWant := ReadSized(plain[d], 0, size, size)
			if err := errors.Join(errGot, errWant); err != nil || !bytes.Equal(got, want) {
				t.Fatalf("round %d, %+v: device %d has other bytes (%v)", round, runs, d, err)
			}
		}
		for range 20 {
			off := rng.Int64N(m.Size())
			got := make([]byte, 1+rng.Int64N(m.Size()-off))
			if err := ReadFull(m, got, off); err != nil {
				t.Fatal(err)
			}
			for at := off; at < off+int64(len(got)); {
				p, in := where[at/512], at%512
				n := min(512-in, off+int64(len(got))-at)
				want, err := ReadSized(plain[p.Device], p.Off+in, n, 512)
				if err != nil || !bytes.Equal(got[at-off:at-off+n], want) {
					t.Fatalf("round %d: bytes from %d on, %v", round, at, err)
				}
				at += n
			}
			start, end, hole, err := m.Next(off)
			if err != nil || start > off || end <= off || end > m.Size() {
				t.Fatalf("round %d: the run at %d is %d to %d, %v", round, off, start, end, err)
			}
			if data, err := ReadSized(m, off, end-off, end-off); hole && (err != nil || !IsZero(data)) {
				t.Fatalf("round %d: a hole from %d to %d has bytes, %v", round, off, end, err)
			}
		}
	}
}

// TestMappedIsFrugal: a terabyte in turns that was never written is one hole, and zeroing it is one
// call a device; a sync is one each.
func TestMappedIsFrugal(t *testing.T) {
	const each = 1 << 39
	a, b := &counted{Device: NewMemory(each, DefaultGeometry)}, &counted{Device: NewMemory(each, Geometry{Logical: 4096, Physical: 4096, MinIO: 4096})}
	m, err := NewMapped([]Device{a, b}, []Run{{Len: 2 * each, Piece: 64 << 10, On: []Place{{0, 0}, {1, 0}}}})
	if err != nil {
		t.Fatal(err)
	}
	if want := (Geometry{Logical: 4096, Physical: 4096, MinIO: 64 << 10, OptIO: 128 << 10}); m.Geometry() != want {
		t.Errorf("%+v, want %+v", m.Geometry(), want)
	}
	_, end, hole, err := m.Next(3 << 20)
	if err != nil || !hole || end != 2*each {
		t.Errorf("a hole %v to %d, %v", hole, end, err)
	}
	err = errors.Join(m.WriteZeroes(4096, 2*each-8192), m.Sync())
	if err != nil || a.zeroes+b.zeroes > 8 || a.syncs != 1 || b.syncs != 1 {
		t.Errorf("%d and %d zeroings, %d and %d syncs, %v", a.zeroes, b.zeroes, a.syncs, b.syncs, err)
	}
}

type counted struct {
	Device
	zeroes, syncs int
}

func (c *counted) WriteZeroes(off, n int64) error { c.zeroes++; return c.Device.WriteZeroes(off, n) }
func (c *counted) Sync() error                    { c.syncs++; return c.Device.Sync() }

// TestMappedRefuses: what is no mapping is none.
func TestMappedRefuses(t *testing.T) {
	devices := []Device{NewMemory(1<<20, DefaultGeometry), NewMemory(1<<20, Geometry{Logical: 4096, Physical: 4096})}
	on := func(places ...Place) []Place { return places }
	for name, runs := range map[string][]Run{
		"nothing":                   {},
		"a run without bytes":       {{0, 0, on(Place{0, 0})}},
		"a run without places":      {{512, 0, nil}},
		"two places and no piece":   {{1024, 0, on(Place{0, 0}, Place{0, 4096})}},
		"an end within a turn":      {{1536, 512, on(Place{0, 0}, Place{0, 4096})}},
		"past the device":           {{1 << 20, 0, on(Place{0, 512})}},
		"a length that runs over":   {{1 << 62, 0, on(Place{0, 512})}},
		"a turn that runs over":     {{8192, 1 << 62, on(Place{0, 0}, Place{0, 4096}, Place{0, 8192}, Place{0, 12288})}},
		"another device":            {{512, 0, on(Place{2, 0})}},
		"before the device":         {{512, 0, on(Place{0, -512})}},
		"off the sectors":           {{4096, 0, on(Place{1, 512})}},
		"off the larger sectors":    {{512, 0, on(Place{0, 0})}, {4096, 0, on(Place{1, 0})}},
		"twice the same bytes":      {{4096, 0, on(Place{0, 0})}, {4096, 0, on(Place{0, 2048})}},
		"twice the same in one run": {{8192, 4096, on(Place{0, 0}, Place{0, 0})}},
	} {
		if _, err := NewMapped(devices, runs); !errors.Is(err, ErrMapping) {
			t.Errorf("%s: %v", name, err)
		}
	}
	m, err := NewMapped(devices, []Run{{8192, 0, on(Place{0, 4096})}})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := m.WriteAt(make([]byte, 512), 8192); !errors.Is(err, ErrRange) {
		t.Errorf("a write past the end: %v", err)
	}
	if err := m.WriteZeroes(7680, 1024); !errors.Is(err, ErrRange) {
		t.Errorf("zeros past the end: %v", err)
	}
}
