package block

import (
	"bytes"
	"errors"
	"math/rand/v2"
	"slices"
	"testing"
)

// TestMovedReadsFromElsewhere: with any moves it reads as an array does into which they
// were copied all at once, also where they overlap where they come from; holes are zeros,
// and an overlay on top leaves it as it is.
func TestMovedReadsFromElsewhere(t *testing.T) {
	for seed := range uint64(80) {
		rng := rand.New(rand.NewPCG(seed, 11))
		base, m := NewMemory(64*sector, DefaultGeometry), &model{make([]byte, 64*sector)}
		for range 9 {
			scribble(t, rng, base, m)
		}
		want := bytes.Clone(m.now)
		var moves []Move
		for to := rng.Int64N(5) * sector; to < 60*sector; to += rng.Int64N(6) * sector {
			x := Move{From: rng.Int64N(60) * sector, To: to, Len: (1 + rng.Int64N(4)) * sector}
			copy(want[x.To:x.end()], m.now[x.From:x.From+x.Len])
			moves, to = append(moves, x), x.end()
		}
		rng.Shuffle(len(moves), func(i, j int) { moves[i], moves[j] = moves[j], moves[i] })
		given := slices.Clone(moves)
		dev, err := NewMoved(base, moves)
		if err != nil {
			t.Fatal(seed, err)
		}
		for range 40 {
			off := rng.Int64N(64 * sector)
			p := make([]byte, min(1+rng.Int64N(9*sector), 64*sector-off))
			if err := ReadFull(dev, p, off); err != nil || !bytes.Equal(p, want[off:off+int64(len(p))]) {
				t.Fatalf("seed %d: %d bytes at %d differ (%v)", seed, len(p), off, err)
			}
		}
		for off := int64(0); off < dev.Size(); {
			start, end, hole, err := dev.Next(off)
			if err != nil || start > off || end <= off || hole && !IsZero(want[off:end]) {
				t.Fatalf("seed %d: Next(%d) = %d, %d, %v, %v", seed, off, start, end, hole, err)
			}
			off = end
		}
		if err := WriteBytes(NewOverlay(dev, Spill{}), []byte("moss"), 700); err != nil {
			t.Fatal(err)
		}
		p := make([]byte, 64*sector)
		if err := ReadFull(dev, p, 0); err != nil || !bytes.Equal(p, want) || !slices.Equal(moves, given) {
			t.Fatalf("seed %d: it changed (%v)", seed, err)
		}
	}
}

// TestMovesThatMakeNoSense are refused.
func TestMovesThatMakeNoSense(t *testing.T) {
	base := NewMemory(64*sector, DefaultGeometry)
	for name, moves := range map[string][]Move{
		"two to one place":     {{0, 10 * sector, 2 * sector}, {0, 11 * sector, sector}},
		"past the end":         {{0, 63 * sector, 2 * sector}},
		"from past the end":    {{63 * sector, 0, 2 * sector}},
		"of nothing":           {{0, sector, 0}},
		"of less than nothing": {{0, sector, -sector}},
		"off a sector":         {{100, sector, sector}},
	} {
		if _, err := NewMoved(base, moves); !errors.Is(err, ErrRange) && !errors.Is(err, ErrUnaligned) {
			t.Errorf("%s: %v", name, err)
		}
	}
	dev, err := NewMoved(base, nil)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := dev.WriteAt(make([]byte, sector), 0); !errors.Is(err, ErrReadOnly) {
		t.Errorf("writing to it: %v", err)
	}
}
