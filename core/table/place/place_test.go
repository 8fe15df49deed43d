package place_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"fundus/core/extent"
	"fundus/core/quantity"
	"fundus/core/table"
	"fundus/core/table/place"
	"fundus/test/amount"
)

func size(text string) quantity.Size {
	s, err := quantity.Parse(text)
	if err != nil {
		panic(err)
	}
	return s
}

// A place is rounded up to the alignment step, and what is rounded is said.
func Example() {
	m := &table.Table{Scheme: table.GPT, Sector: 512, Slots: 128, Usable: extent.Span{Start: 34, Count: 1 << 20}}
	p, err := place.Wanted{At: size("100MB"), Size: size("1000000B")}.Find(m, 1<<20)
	fmt.Println(p.Span, len(p.Notes), err)
	// Output: 196608-198655 2 <nil>
}

// odd is a table of partitions at any sector, some of them logical in an extended one.
func odd(rng *rand.Rand) *table.Table {
	m := &table.Table{Scheme: table.GPT, Sector: 512 << (3 * rng.IntN(2)), Slots: 128, Usable: extent.Span{Start: 34, Count: 40000}}
	if rng.IntN(2) == 0 {
		m.Scheme, m.Slots, m.Usable.Start = table.MBR, 4, 1
	}
	at := m.Usable.Start
	for n := 1; n <= 4 && at < m.Usable.End(); n++ {
		at += uint64(rng.IntN(6000))
		p := table.Partition{Number: n, Span: extent.Span{Start: at, Count: 1 + uint64(rng.IntN(12000))}}
		if p.Span.End() > m.Usable.End() || rng.IntN(5) == 0 {
			break
		}
		if at = p.Span.End(); m.Scheme == table.MBR && n == 2 && p.Span.Count > 1000 {
			p.Role = table.Extended
			inner := extent.Span{Start: p.Span.Start + 1 + uint64(rng.IntN(400)), Count: 1 + uint64(rng.IntN(500))}
			m.Chain = []extent.Span{{Start: p.Span.Start, Count: 1}}
			m.Parts = append(m.Parts, table.Partition{Number: 5, Role: table.Logical, Span: inner})
		}
		m.Parts = append(m.Parts, p)
	}
	return m
}

// TestPlaced: whatever the table and the wish, what is found lies in a gap, overlaps
// nothing, has the size that was asked for or more by less than a step, and begins on the
// step unless sectors were named; what is not found is refused with a class.
func TestPlaced(t *testing.T) {
	seed, found := amount.Seed(), 0
	classes := []error{table.ErrNoRoom, place.ErrGap, extent.ErrOverlap, table.ErrPlace, quantity.ErrRange}
	for i := range amount.Of(2000, 100000) {
		rng := rand.New(rand.NewPCG(seed, uint64(i)))
		m, step := odd(rng), quantity.Bytes(4096<<rng.IntN(9))
		w := place.Wanted{}
		if rng.IntN(4) > 0 {
			w.Size = size([]string{"max", "7%", "100%", fmt.Sprintf("%dB", 1+rng.IntN(8<<20)), fmt.Sprintf("%dsectors", 1+rng.IntN(9000))}[rng.IntN(5)])
		}
		switch rng.IntN(3) {
		case 0:
			w.At = size([]string{fmt.Sprintf("%dsectors", rng.IntN(41000)), fmt.Sprintf("%dB", rng.IntN(40000*512))}[rng.IntN(2)])
		case 1:
			w.In = 1 + rng.IntN(3)
		}
		p, err := w.Find(m, step)
		if err != nil {
			if !slices.ContainsFunc(classes, func(c error) bool { return errors.Is(err, c) }) {
				t.Fatalf("seed %d, case %d: %v", seed, i, err)
			}
			continue
		}
		found++
		gap := slices.IndexFunc(m.Gaps(), func(g extent.Span) bool { return g.Contains(p.Span) })
		sectors := w.At.Form == quantity.InSector
		switch {
		case p.Span.Count == 0 || gap < 0:
			t.Fatalf("seed %d, case %d: %v lies in no gap of %v", seed, i, p.Span, m.Gaps())
		case !sectors && quantity.Bytes(p.Span.Start)*m.Sector%step != 0:
			t.Fatalf("seed %d, case %d: %v is off the step of %d", seed, i, p.Span, step)
		}
		if asked, err := w.Size.Resolve(m.Sector, 0); err == nil && (w.Size.Form == quantity.Absolute || w.Size.Form == quantity.InSector) {
			if got := quantity.Bytes(p.Span.Count) * m.Sector; got < asked || got >= asked+step {
				t.Fatalf("seed %d, case %d: %d bytes asked for, %d given", seed, i, asked, got)
			}
		}
	}
	if found < 200 {
		t.Errorf("only %d found", found)
	}
}

// TestBehind: the gap behind a logical partition is that inside the extended one.
func TestBehind(t *testing.T) {
	m := &table.Table{Scheme: table.MBR, Sector: 512, Slots: 4, Usable: extent.Span{Start: 1, Count: 99999}, Parts: []table.Partition{
		{Number: 1, Role: table.Extended, Span: extent.Span{Start: 2048, Count: 8000}}, {Number: 5, Role: table.Logical, Span: extent.Span{Start: 2049, Count: 1000}}}}
	for i, want := range []extent.Span{{Start: 10048, Count: 89952}, {Start: 3049, Count: 6999}} {
		if got := place.Behind(m, m.Parts[i]); got != want {
			t.Errorf("behind %d: %v, not %v", m.Parts[i].Number, got, want)
		}
	}
}

// TestResized: sizes are rounded up to the step, the last step of a disk may be short, and
// nothing is not a size.
func TestResized(t *testing.T) {
	const mib = 1 << 20
	for _, c := range []struct {
		size, by string
		want     quantity.Bytes
		notes    int
	}{{"max", "", 99 * mib, 1}, {"50%", "", 50 * mib, 1}, {"10MB", "", 10 * mib, 1}, {"", "+1MiB", 65 * mib, 0}, {"", "-50%", 32 * mib, 0}, {"", "-64MiB", 0, 0}, {"100MiB", "", 100 * mib, 0}} {
		r := place.Resized{By: c.by}
		if c.size != "" {
			r.Size = size(c.size)
		}
		got, note, err := r.Bytes(mib, 64*mib, 99*mib+512, 512, mib)
		if got != c.want || (note != "") != (c.notes > 0) || errors.Is(err, table.ErrPlace) != (c.want == 0) {
			t.Errorf("%s%s: %d, %q, %v", c.size, c.by, got, note, err)
		}
	}
}

// TestUntil: what is asked for by its end reaches that end, rounded up to the step and never
// past the room; an end before the beginning, in the next partition, or as a share is refused.
func TestUntil(t *testing.T) {
	m := &table.Table{Scheme: table.GPT, Sector: 512, Slots: 128, Usable: extent.Span{Start: 34, Count: 1 << 21}, Parts: []table.Partition{{Number: 1, Span: extent.Span{Start: 1 << 20, Count: 2048}}}}
	for _, c := range []struct {
		at, to string
		want   extent.Span
		notes  int
	}{
		{"1MiB", "251MiB", extent.Span{Start: 2048, Count: 250 * 2048}, 0},
		{"1MB", "251MB", extent.Span{Start: 2048, Count: 239 * 2048}, 2},
		{"40sectors", "50sectors", extent.Span{Start: 40, Count: 10}, 0},
		{"1MiB", "511.9MiB", extent.Span{Start: 2048, Count: 1<<20 - 2048}, 1},
		{"1MiB", "max", extent.Span{Start: 2048, Count: 1<<20 - 2048}, 0},
	} {
		p, err := place.Wanted{At: size(c.at), To: size(c.to)}.Find(m, 1<<20)
		if err != nil || p.Span != c.want || len(p.Notes) != c.notes {
			t.Errorf("%s to %s: %v, %v, %v; want %v", c.at, c.to, p.Span, p.Notes, err, c.want)
		}
	}
	for _, w := range []place.Wanted{
		{At: size("2MiB"), To: size("1MiB")}, {At: size("2MiB"), To: size("2MiB")}, {At: size("1MiB"), To: size("50%")}, {To: size("5MiB")},
		{At: size("1MiB"), To: size("600MiB")}, {At: size("1MiB"), To: size("5MiB"), Size: size("4MiB")}, {At: size("1MiB"), To: size("2305843009213693951B")},
	} {
		if p, err := w.Find(m, 1<<20); err == nil {
			t.Errorf("%v to %v: %v", w.At, w.To, p.Span)
		}
	}
}
