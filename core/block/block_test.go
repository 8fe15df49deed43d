package block

import (
	"bytes"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"testing"
)

const sector = 512

// model is the plain truth that an overlay is compared with.
type model struct{ now []byte }

func scribble(t *testing.T, rng *rand.Rand, dev Device, m *model) {
	t.Helper()
	off := rng.Int64N(int64(len(m.now))/sector) * sector
	n := min((1+rng.Int64N(9))*sector, int64(len(m.now))-off)
	if rng.IntN(3) == 0 {
		clear(m.now[off : off+n])
		if err := dev.WriteZeroes(off, n); err != nil {
			t.Fatal(err)
		}
		return
	}
	p := make([]byte, n)
	for i := range p {
		p[i] = byte(rng.Uint32())
	}
	copy(m.now[off:], p)
	if _, err := dev.WriteAt(p, off); err != nil {
		t.Fatal(err)
	}
}

// TestOverlayIsWhatWasWritten: after any writes, zeroings and syncs, with and
// without spilling, the overlay reads as a plain array would; each phase view
// reads as things were then; replaying the phases onto a copy gives the same;
// and the device below never changed.
func TestOverlayIsWhatWasWritten(t *testing.T) {
	for seed := range uint64(60) {
		rng := rand.New(rand.NewPCG(seed, 7))
		base := NewMemory(64*sector, DefaultGeometry)
		m := &model{make([]byte, 64*sector)}
		for range 5 {
			scribble(t, rng, base, m)
		}
		before := bytes.Clone(m.now)
		spill := Spill{}
		if seed%2 == 1 {
			spill = Spill{Ceiling: 4 * sector, Open: func() (SpillFile, error) { return os.Create(filepath.Join(t.TempDir(), "spill")) }}
		}
		o := NewOverlay(base, spill)
		states := [][]byte{bytes.Clone(m.now)}
		for range 4 {
			for range 1 + rng.IntN(12) {
				scribble(t, rng, o, m)
			}
			if err := o.Sync(); err != nil {
				t.Fatal(err)
			}
			states = append(states, bytes.Clone(m.now))
		}
		replay := bytes.Clone(before)
		for i := range o.Phases() {
			for k, e := range o.Phase(i) {
				if k > 0 && o.Phase(i)[k-1].end() > e.Off {
					t.Fatalf("seed %d: phase %d is not sorted", seed, i)
				}
				if err := o.Data(e, replay[e.Off:e.end()]); err != nil {
					t.Fatal(err)
				}
			}
			view := make([]byte, len(m.now))
			if err := ReadFull(o.After(i+1), view, 0); err != nil || !bytes.Equal(view, states[i+1]) || !bytes.Equal(replay, view) {
				t.Fatalf("seed %d: phase %d differs (%v)", seed, i, err)
			}
		}
		under := make([]byte, len(m.now))
		if err := ReadFull(base, under, 0); err != nil || !bytes.Equal(under, before) {
			t.Fatalf("seed %d: the device below changed (%v)", seed, err)
		}
		for off := int64(0); off < o.Size(); {
			start, end, hole, err := o.Next(off)
			if err != nil || start > off || end <= off || hole && !IsZero(m.now[off:end]) {
				t.Fatalf("seed %d: Next(%d) = %d, %d, %v, %v", seed, off, start, end, hole, err)
			}
			off = end
		}
		if err := o.Close(); err != nil {
			t.Fatal(err)
		}
	}
}

// TestOverlayWorkIsProportional: blocks in random order, and a phase for each write, cost
// no more for each block when there are ten times as many.
func TestOverlayWorkIsProportional(t *testing.T) {
	const size = 4096
	spread := func(n int, sync bool) (work, bytes float64) {
		var compared int64
		var before, after runtime.MemStats
		o := newOverlay(Zero{1 << 40, DefaultGeometry}, Spill{}, &compared)
		rng, p := rand.New(rand.NewPCG(1, uint64(n))), make([]byte, size)
		runtime.ReadMemStats(&before)
		for _, i := range rng.Perm(n) {
			if _, err := o.WriteAt(p, int64(i)*3*size); err != nil {
				t.Fatal(err)
			}
			if sync {
				_ = o.Sync()
			}
		}
		for i := range n {
			if err := ReadFull(o, p, int64(i)*3*size); err != nil {
				t.Fatal(err)
			}
		}
		runtime.ReadMemStats(&after)
		return float64(compared) / float64(n), float64(after.TotalAlloc-before.TotalAlloc)/float64(n) - size
	}
	for _, sync := range []bool{false, true} {
		n := map[bool]int{false: 80_000, true: 8_000}[sync]
		work, bytes := spread(n, sync)
		less, lessBytes := spread(n/10, sync)
		t.Logf("%d blocks, a phase each %v: %.0f comparisons and %.0f bytes besides its own a block; of a tenth %.0f and %.0f", n, sync, work, bytes, less, lessBytes)
		if work > 2*less || work > 300 || bytes > 2*lessBytes {
			t.Errorf("%d blocks: %.0f comparisons and %.0f bytes a block, of a tenth %.0f and %.0f", n, work, bytes, less, lessBytes)
		}
	}
}

// TestPowerCutKeepsWhatWasSynced: before the last sync everything survives;
// after it each physical sector is old or new, whole; and over many seeds both
// happen.
func TestPowerCutKeepsWhatWasSynced(t *testing.T) {
	kept, lost := 0, 0
	for seed := range uint64(50) {
		base := NewMemory(32*4096, Geometry{Logical: 512, Physical: 4096})
		f := NewFaulty(base, Fault{FailAt: Never, CutAt: 3, Seed: seed, ReadErrorAt: Never})
		old, fresh := bytes.Repeat([]byte{1}, 8*4096), bytes.Repeat([]byte{2}, 8*4096)
		if _, err := f.WriteAt(old, 0); err != nil {
			t.Fatal(err)
		}
		if err := f.Sync(); err != nil {
			t.Fatal(err)
		}
		if _, err := f.WriteAt(fresh, 0); err != nil {
			t.Fatal(err)
		}
		if err := f.Sync(); !errors.Is(err, ErrPowerLost) {
			t.Fatalf("sync at the cut = %v", err)
		}
		got := make([]byte, len(old))
		if err := ReadFull(base, got, 0); err != nil {
			t.Fatal(err)
		}
		for at := 0; at < len(got); at += 4096 {
			switch piece := got[at : at+4096]; {
			case bytes.Equal(piece, old[:4096]):
				lost++
			case bytes.Equal(piece, fresh[:4096]):
				kept++
			default:
				t.Fatalf("seed %d: a physical sector is torn", seed)
			}
		}
	}
	if kept == 0 || lost == 0 {
		t.Errorf("kept %d, lost %d sectors: the cut chooses nothing", kept, lost)
	}
}

func TestFaultsSurface(t *testing.T) {
	f := NewFaulty(NewMemory(8192, DefaultGeometry), Fault{FailAt: 1, CutAt: Never, ReadErrorAt: 600})
	if _, err := f.WriteAt(make([]byte, 512), 0); err != nil {
		t.Fatal(err)
	}
	if err := f.WriteZeroes(512, 512); !errors.Is(err, ErrInjected) {
		t.Errorf("second operation = %v", err)
	}
	if err := ReadFull(f, make([]byte, 512), 512); !errors.Is(err, ErrInjected) || f.Hits() != 2 {
		t.Errorf("read of the bad byte = %v, hits %d", err, f.Hits())
	}
}

func TestSliceKeepsToItsSpan(t *testing.T) {
	disk := NewMemory(1<<44, DefaultGeometry)
	s, err := NewSlice(disk, 1<<41, 4096)
	if err != nil {
		t.Fatal(err)
	}
	for _, off := range []int64{-512, 4096, 3584 + 512, 1 << 62} {
		if _, err := s.WriteAt(make([]byte, 1024), off); !errors.Is(err, ErrRange) {
			t.Errorf("write at %d = %v", off, err)
		}
	}
	if _, err := s.WriteAt(make([]byte, 100), 0); !errors.Is(err, ErrUnaligned) {
		t.Errorf("write of 100 bytes = %v", err)
	}
	if err := WriteBytes(s, []byte("seed"), 1000); err != nil {
		t.Fatal(err)
	}
	got := make([]byte, 4)
	if err := ReadFull(disk, got, 1<<41+1000); err != nil || string(got) != "seed" {
		t.Errorf("the disk holds %q (%v)", got, err)
	}
	if n, err := s.ReadAt(make([]byte, 10), 4090); n != 6 || err != io.EOF {
		t.Errorf("read across the end = %d, %v", n, err)
	}
	if _, err := NewSlice(disk, 1<<44-512, 1024); !errors.Is(err, ErrRange) {
		t.Errorf("slice past the end = %v", err)
	}
}

func TestReadSizedIsBounded(t *testing.T) {
	d := Zero{1 << 20, DefaultGeometry}
	if _, err := ReadSized(d, 0, 1<<50, 1<<16); !errors.Is(err, ErrLimit) {
		t.Errorf("beyond its limit = %v", err)
	}
	if _, err := ReadSized(d, 1<<20-512, 1024, 1<<16); !errors.Is(err, io.ErrUnexpectedEOF) {
		t.Errorf("across the end = %v", err)
	}
}

// TestOverlaysShareACeiling: what is over it goes to a file, whichever of them writes it.
func TestOverlaysShareACeiling(t *testing.T) {
	spill := Spill{Ceiling: 4 * sector, Held: new(int64), Open: func() (SpillFile, error) { return os.CreateTemp(t.TempDir(), "spill") }}
	below := NewOverlay(Zero{1 << 20, DefaultGeometry}, spill)
	above := NewOverlay(below, spill)
	p := bytes.Repeat([]byte("moss"), sector/4)
	for i := range int64(3) {
		for _, o := range []*Overlay{below, above} {
			if _, err := o.WriteAt(p, (2*i)*sector); err != nil {
				t.Fatal(err)
			}
		}
	}
	_, first := below.Held()
	memory, second := above.Held()
	if memory != 4*sector || first+second != 2*sector {
		t.Errorf("%d bytes in memory, %d and %d in files", memory, first, second)
	}
	if err := errors.Join(above.Close(), below.Close()); err != nil {
		t.Error(err)
	}
}
