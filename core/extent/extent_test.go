package extent

import (
	"errors"
	"math"
	"math/rand/v2"
	"testing"
)

func TestValidate(t *testing.T) {
	cases := []struct {
		name  string
		spans []Span
		want  error
	}{
		{"in any order", []Span{{50, 50}, {0, 10}, {10, 40}}, nil},
		{"empty", []Span{{5, 0}}, ErrEmpty},
		{"one past the end", []Span{{90, 11}}, ErrBeyond},
		{"start and count that would wrap", []Span{{math.MaxUint64, 2}}, ErrBeyond},
		{"overlap by one", []Span{{10, 11}, {20, 5}}, ErrOverlap},
		{"one inside another", []Span{{10, 50}, {20, 5}}, ErrOverlap},
	}
	for _, c := range cases {
		if got := Validate(c.spans, 100); !errors.Is(got, c.want) {
			t.Errorf("%s: Validate = %v, want %v", c.name, got, c.want)
		}
	}
}

// TestGapsAndSpansFillTheRoom: whatever the spans, each unit of the room is
// either in a span or in exactly one gap.
func TestGapsAndSpansFillTheRoom(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	for round := range 2000 {
		room := Span{rng.Uint64N(20), 1 + rng.Uint64N(60)}
		spans := make([]Span, rng.IntN(6))
		var covered [100]int
		for i := range spans {
			spans[i] = Span{rng.Uint64N(90), rng.Uint64N(15)}
			for u := spans[i].Start; u < min(spans[i].End(), 100); u++ {
				covered[u] = 1
			}
		}
		for _, g := range Gaps(room, spans) {
			if g.Count == 0 || !room.Contains(g) {
				t.Fatalf("round %d: gap %v of room %v", round, g, room)
			}
			for u := g.Start; u < g.End(); u++ {
				covered[u] += 2
			}
		}
		for u := room.Start; u < room.End(); u++ {
			if covered[u] != 1 && covered[u] != 2 {
				t.Fatalf("round %d: unit %d of room %v, spans %v: covered %d", round, u, room, spans, covered[u])
			}
		}
	}
}

// TestOverlaps: a span is in a pair exactly where it shares a unit with one that
// begins before it or with it.
func TestOverlaps(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 5))
	for range 3000 {
		spans := make([]Span, rng.IntN(8))
		for i := range spans {
			spans[i] = Span{rng.Uint64N(40), rng.Uint64N(12)}
			if rng.IntN(20) == 0 {
				spans[i].Count = math.MaxUint64
			}
		}
		paired, any := map[int]bool{}, false
		for _, p := range Overlaps(spans) {
			if p[0] >= p[1] || !spans[p[0]].Overlaps(spans[p[1]]) {
				t.Fatalf("%v: pair %v", spans, p)
			}
			paired[p[0]], paired[p[1]] = true, true
		}
		for i, a := range spans {
			meets := false
			for k, b := range spans {
				meets = meets || i != k && a.Overlaps(b)
			}
			any = any || meets
			if paired[i] && !meets {
				t.Fatalf("%v: %d is paired", spans, i)
			}
		}
		if any != (len(paired) > 0) {
			t.Fatalf("%v: overlaps %v, pairs %v", spans, any, paired)
		}
	}
}

func TestInnerAndStep(t *testing.T) {
	if got, want := (Span{34, 5000}).Inner(2048), (Span{2048, 2048}); got != want {
		t.Errorf("Inner = %v, want %v", got, want)
	}
	if got := (Span{1, 2046}).Inner(2048); got.Count != 0 {
		t.Errorf("Inner of too small a span = %v", got)
	}
	for _, c := range []struct{ physical, optimal, want uint64 }{
		{512, 0, 1 << 20}, {4096, 1 << 20, 1 << 20}, {4096, 3 << 19, 3 << 20}, {4096, 65535 * 512, 1 << 20}, {4096, 1 << 40, 1 << 20},
	} {
		if got := Step(Base, c.physical, c.optimal); got != c.want {
			t.Errorf("Step(Base, %d, %d) = %d, want %d", c.physical, c.optimal, got, c.want)
		}
	}
}
