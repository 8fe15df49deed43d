// Package extent computes with spans of units (bytes, sectors or blocks,
// whichever the caller means): validity, gaps between them, and alignment.
// It is the only place with that arithmetic, and none of it can overflow:
// it subtracts where a sum could wrap.
package extent

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
)

// Span is Count units from Start. An empty span has Count 0.
type Span struct {
	Start uint64 `json:"start"`
	Count uint64 `json:"count"`
}

// Errors of Validate.
var (
	ErrEmpty   = errors.New("is empty")
	ErrBeyond  = errors.New("reaches past the end")
	ErrOverlap = errors.New("overlaps another")
)

// SpanError is the span that broke a rule, by its index in what was given.
type SpanError struct {
	Index, Other int // Other: the one overlapped, else -1
	Span         Span
	Limit        uint64
	Err          error
}

func (e *SpanError) Error() string {
	if e.Other >= 0 {
		return fmt.Sprintf("span %d (%v) %v: span %d", e.Index, e.Span, e.Err, e.Other)
	}
	return fmt.Sprintf("span %d (%v) %v (%d)", e.Index, e.Span, e.Err, e.Limit)
}

// Unwrap gives ErrEmpty, ErrBeyond or ErrOverlap.
func (e *SpanError) Unwrap() error { return e.Err }

// String prints first and last unit, as partition tables count.
func (s Span) String() string {
	if s.Count == 0 {
		return fmt.Sprintf("%d+0", s.Start)
	}
	return fmt.Sprintf("%d-%d", s.Start, s.Start+(s.Count-1))
}

// End is the first unit behind the span. It is meaningful only for spans that
// lie within a limit.
func (s Span) End() uint64 { return s.Start + s.Count }

// Within reports whether the span lies below limit.
func (s Span) Within(limit uint64) bool { return s.Count <= limit && s.Start <= limit-s.Count }

// Contains reports whether the other span lies inside this one.
func (s Span) Contains(other Span) bool {
	return other.Start >= s.Start && Span{other.Start - s.Start, other.Count}.Within(s.Count)
}

// Overlaps reports whether both spans share a unit.
func (s Span) Overlaps(other Span) bool {
	if s.Start > other.Start {
		s, other = other, s
	}
	return s.Count > 0 && other.Count > 0 && other.Start-s.Start < s.Count
}

// Validate returns the first rule that the spans break: none is empty, none
// reaches past limit, none overlaps another. They may come in any order.
func Validate(spans []Span, limit uint64) error {
	for i, s := range spans {
		if s.Count == 0 {
			return &SpanError{i, -1, s, limit, ErrEmpty}
		}
		if !s.Within(limit) {
			return &SpanError{i, -1, s, limit, ErrBeyond}
		}
	}
	order := make([]int, len(spans))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int { return cmp.Compare(spans[a].Start, spans[b].Start) })
	for i := 1; i < len(order); i++ {
		if a, b := order[i-1], order[i]; spans[a].Overlaps(spans[b]) {
			return &SpanError{b, a, spans[b], limit, ErrOverlap}
		}
	}
	return nil
}

// Overlaps lists pairs of spans, by their indices, that share a unit: each span with
// one that begins before it, so that there are never more pairs than spans.
func Overlaps(spans []Span) (pairs [][2]int) {
	order := make([]int, 0, len(spans))
	for i, s := range spans {
		if s.Count > 0 {
			order = append(order, i)
		}
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(spans[a].Start, spans[b].Start) })
	furthest := -1
	for _, i := range order {
		if furthest >= 0 && spans[furthest].Overlaps(spans[i]) {
			pairs = append(pairs, [2]int{min(furthest, i), max(furthest, i)})
		}
		if furthest < 0 || spans[i].Count > spans[furthest].Count-min(spans[furthest].Count, spans[i].Start-spans[furthest].Start) {
			furthest = i
		}
	}
	return pairs
}

// Gaps returns what of the room no span covers, in order. Spans may overlap
// each other and reach out of the room.
func Gaps(room Span, spans []Span) []Span {
	sorted := slices.Clone(spans)
	slices.SortFunc(sorted, func(a, b Span) int { return cmp.Compare(a.Start, b.Start) })
	var gaps []Span
	at := room.Start
	for _, s := range sorted {
		if s.Count == 0 || s.Start >= room.End() {
			continue
		}
		if s.Start > at {
			gaps = append(gaps, Span{at, s.Start - at})
		}
		if !s.Within(room.End()) {
			return gaps
		}
		at = max(at, s.End())
	}
	if at < room.End() {
		gaps = append(gaps, Span{at, room.End() - at})
	}
	return gaps
}

// Inner returns the largest part of the span whose start and length are
// multiples of step; it may be empty.
func (s Span) Inner(step uint64) Span {
	skip := (step - s.Start%step) % step
	if skip >= s.Count {
		return Span{s.Start, 0}
	}
	return Span{s.Start + skip, (s.Count - skip) / step * step}
}

// Aligned reports whether the span starts on a multiple of step.
func (s Span) Aligned(step uint64) bool { return s.Start%step == 0 }

// Base is the alignment step of a device that asks for nothing, in bytes.
const Base = 1 << 20

// Step is the alignment step in bytes for a device: the base, or the smallest
// multiple of it that is also a multiple of what the device asks for (physical
// sector and optimal I/O size, in bytes, 0 where unknown). An optimal size that
// would need a step above 64 MiB is a firmware's nonsense value and is left out.
func Step(base, physical, optimal uint64) uint64 {
	const ceiling = 64 << 20
	step := base
	for _, want := range []uint64{physical, optimal} {
		if want == 0 || want > ceiling {
			continue
		}
		if next := step / gcd(step, want) * want; next <= ceiling {
			step = next
		}
	}
	return step
}

func gcd(a, b uint64) uint64 {
	for b != 0 {
		a, b = b, a%b
	}
	return a
}
