package gather

import (
	"fmt"
	"testing"

	"fundus/core/quantity"
)

// TestWorst: of many files those are kept that gain most, in their order, and all are counted;
// what is in pieces that are long, needs as many, or cannot be touched, gains nothing.
func TestWorst(t *testing.T) {
	w := NewWorst(3)
	for i := range 100 {
		w.Show(File{Path: fmt.Sprint(i), Size: quantity.MiB, Data: quantity.MiB, Pieces: 1 + (i*37)%100, Least: 1})
	}
	for _, f := range []File{
		{Path: "long", Data: 400 * enough, Pieces: 300, Least: 1}, {Path: "holes", Data: quantity.MiB, Pieces: 300, Least: 300},
		{Path: "fixed", Data: quantity.MiB, Pieces: 300, Least: 1, Left: "immutable"}, {Path: "empty"},
	} {
		w.Show(f)
	}
	var got []string
	for _, f := range w.List() {
		got = append(got, fmt.Sprintf("%s %d", f.Path, f.Pieces))
	}
	if fmt.Sprint(got) != "[27 100 54 99 81 98]" || w.All != (Sum{103, 5950, 402}) || w.Worth != (Sum{99, 5049, 99}) || !w.Worthwhile() {
		t.Errorf("%v, all %v, worth %v", got, w.All, w.Worth)
	}
	tidy := NewWorst(3)
	for range 100 {
		tidy.Show(File{Data: quantity.MiB, Pieces: 1, Least: 1})
	}
	tidy.Show(File{Path: "two", Data: quantity.MiB, Pieces: 3, Least: 1})
	if tidy.Worthwhile() {
		t.Error("two pieces of a hundred are worth it")
	}
}

// TestFits: a tenth of the room stays.
func TestFits(t *testing.T) {
	f := File{Data: 10}
	if !f.Fits(20, 100) || f.Fits(19, 100) || f.Fits(5, 100) {
		t.Error("the tenth is not kept")
	}
}
