package table

import (
	"errors"
	"math/rand/v2"
	"testing"

	"fundus/core/extent"
	"fundus/core/quantity"
)

func disk() *Table {
	return &Table{Scheme: GPT, Sector: 512, Usable: extent.Span{Start: 34, Count: 1<<21 - 68}, Slots: 4}
}

// TestPlaceKeepsTheTableValid: whatever is asked for and removed, what Place
// gives lies in a gap, aligned, and as large as asked for; and what it refuses
// would not have fitted.
func TestPlaceKeepsTheTableValid(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	for round := range 300 {
		d := disk()
		d.Slots = 40
		for range 30 {
			if len(d.Parts) > 0 && rng.IntN(3) == 0 {
				i := rng.IntN(len(d.Parts))
				d.Parts = append(d.Parts[:i], d.Parts[i+1:]...)
				continue
			}
			size := quantity.Bytes(1+rng.Int64N(300<<10)) * 512
			span, err := d.Place(size, quantity.MiB)
			largest := d.Largest(quantity.MiB)
			up, _ := size.Up(quantity.MiB)
			if err != nil {
				if quantity.Bytes(largest.Count)*512 >= up {
					t.Fatalf("round %d: %v refused, %v fits: %v", round, size, largest, err)
				}
				continue
			}
			number, errNumber := d.FreeNumber()
			if quantity.Bytes(span.Count)*512 != up || !span.Aligned(2048) || errNumber != nil {
				t.Fatalf("round %d: %v for %v, %v", round, span, size, errNumber)
			}
			d.Parts = append(d.Parts, Partition{Number: number, Span: span})
			if err := extent.Validate(d.Spans(), d.Usable.End()); err != nil {
				t.Fatalf("round %d: %v", round, err)
			}
		}
	}
}

func TestPlaceSaysWhatWouldFit(t *testing.T) {
	var room *RoomError
	if _, err := disk().Place(2*quantity.GiB, quantity.MiB); !errors.As(err, &room) || room.Largest != 1022*quantity.MiB || !errors.Is(err, ErrNoRoom) {
		t.Errorf("Place = %v", err)
	}
	if span, err := disk().Place(0, quantity.MiB); err != nil || span.Count != 1022*2048 {
		t.Errorf("all of it: %v, %v", span, err)
	}
	full := disk()
	for n := range 4 {
		full.Parts = append(full.Parts, Partition{Number: n + 1, Span: extent.Span{Start: uint64(n+1) * 2048, Count: 2048}})
	}
	if _, err := full.FreeNumber(); !errors.Is(err, ErrNoSlot) {
		t.Errorf("FreeNumber of a full table = %v", err)
	}
	if _, _, ok := (&Table{Sector: 4096}).Bytes(extent.Span{Start: 1 << 60, Count: 1}); ok {
		t.Error("a start beyond 2^63 bytes is accepted")
	}
}
