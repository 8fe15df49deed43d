// Package memory works out whether an area of swap can be given up: what is in it has to go
// somewhere else.
//
// The kernel's own check is no protection: it lets go of an area unless that is larger than
// all memory and swap together, and then kills what it can. So room is counted before, and
// some of the memory is left to whoever needs it meanwhile.
package memory

import (
	"fmt"
	"slices"

	"fundus/core/inventory"
	"fundus/core/quantity"
)

// leastKept stays free whatever happens, or one of keptShare where that is more.
const (
	leastKept = 128 * quantity.MiB
	keptShare = 20
)

// Sum is the arithmetic of giving up areas.
type Sum struct {
	Needed    quantity.Bytes // in use on them
	Available quantity.Bytes // memory that can be had
	Others    quantity.Bytes // free on the areas that stay
	Kept      quantity.Bytes // that is not counted on
}

// GiveUp counts what would become of the areas with the paths.
func GiveUp(m inventory.Memory, areas []inventory.Area, paths ...string) Sum {
	s := Sum{Available: m.Available, Kept: max(leastKept, m.Total/keptShare)}
	for _, a := range areas {
		if slices.Contains(paths, a.Path) {
			s.Needed += a.Used
		} else {
			s.Others += a.Size - a.Used
		}
	}
	return s
}

// Room is what there is for what is in use on them.
func (s Sum) Room() quantity.Bytes { return max(0, s.Available+s.Others-s.Kept) }

// Fits reports whether it is enough.
func (s Sum) Fits() bool { return s.Needed <= s.Room() }

func (s Sum) String() string {
	return fmt.Sprintf("%v is in use; %v of memory can be had and %v is free on other areas, less %v that stay for others: space for %v",
		s.Needed, s.Available, s.Others, s.Kept, s.Room())
}
