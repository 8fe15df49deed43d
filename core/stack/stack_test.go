package stack

import (
	"fmt"
	"strings"
	"testing"

	"fundus/core/quantity"
)

// storeys are a partition of 100, something with a header of 3 and a copy at the end of 2 in
// it, and a file system of 90 in blocks of 10 in that.
func storeys(grow, shrink Way) []Layer {
	tens := func(want quantity.Bytes) (quantity.Bytes, error) {
		if want >= 1000 {
			return 0, fmt.Errorf("it has no numbers for that")
		}
		return want / 10 * 10, nil
	}
	return []Layer{
		{Name: "sdb1", What: "partition 1", Size: 100, Step: 4, Min: 8, Max: 2000, Grow: Way{How: Live}, Shrink: Way{How: Live}},
		{Name: "sdb1", What: "case", Size: 100, Head: 3, Tail: 2, Grow: Way{How: Offline}, Shrink: Way{How: Offline}},
		{Name: "case", What: "leaves", Size: 90, Min: 40, Rule: tens, Grow: grow, Shrink: shrink},
	}
}

// TestPlan: each layer gets its size in its turn, and what cannot be so is said with figures.
func TestPlan(t *testing.T) {
	can, not := Way{How: Offline}, Way{Not: "nobody knows how"}
	for name, c := range map[string]struct {
		grow, shrink Way
		at           int
		size         quantity.Bytes
		want         string
	}{
		"it grows from the outside":         {can, can, 0, 200, "0: 100 to 200 mounted, 1: 100 to 200 not mounted, 2: 90 to 190 not mounted; 5 bytes at the end stay unused: leaves cannot have them"},
		"it shrinks from the inside":        {can, can, 0, 60, "2: 90 to 50 not mounted, 1: 100 to 60 not mounted, 0: 100 to 60 mounted"},
		"what is in it is asked for":        {can, can, 2, 121, "0: 100 to 128 mounted, 1: 100 to 125 not mounted, 2: 90 to 120 not mounted; 121 bytes become 120 B (120 bytes): leaves has sizes of its own"},
		"it cannot grow, and stays":         {not, can, 0, 200, "0: 100 to 200 mounted, 1: 100 to 200 not mounted; leaves keeps its size of 90 B: nobody knows how"},
		"it cannot grow, which is asked":    {not, can, 2, 120, "error: case, leaves: it has 90 B (90 bytes), and 120 B (120 bytes) cannot be: nobody knows how"},
		"it cannot shrink":                  {can, not, 0, 60, "error: case, leaves: it has 90 B (90 bytes), and 55 B (55 bytes) cannot be: nobody knows how"},
		"smaller than what is there":        {can, can, 2, 30, "error: case, leaves: it has 90 B (90 bytes), and 30 B (30 bytes) cannot be: at least 40 B (40 bytes)"},
		"larger than the room":              {can, can, 0, 2004, "error: sdb1, partition 1: it has 100 B (100 bytes), and 2.0 KiB (2004 bytes) cannot be: at most 2.0 KiB (2000 bytes)"},
		"what it holds has no such size":    {can, can, 0, 1200, "0: 100 to 1200 mounted, 1: 100 to 1200 not mounted; leaves keeps its size of 90 B: it has no numbers for that"},
		"nothing changes":                   {can, can, 0, 100, ""},
		"the same size, and room is unused": {can, can, 2, 90, "1: 100 to 95 not mounted, 0: 100 to 96 mounted"},
	} {
		changes, notes, err := Plan(storeys(c.grow, c.shrink), c.at, c.size)
		var said []string
		for _, ch := range changes {
			said = append(said, fmt.Sprintf("%d: %d to %d %s", ch.Layer, ch.From, ch.To, ch.How))
		}
		got := strings.Join(said, ", ")
		if len(notes) > 0 {
			got += "; " + strings.Join(notes, "; ")
		}
		if err != nil {
			got = "error: " + err.Error()
		}
		if got != c.want {
			t.Errorf("%s: %s", name, got)
		}
	}
}

// TestLeast: how small a layer can be is what lies in it, with what is around that; and what
// has a size of its own is no obstacle as long as that is enough.
func TestLeast(t *testing.T) {
	can, not := Way{How: Offline}, Way{Not: "nobody knows how"}
	for name, c := range map[string]struct {
		shrink Way
		min    quantity.Bytes
		at     int
		want   string
	}{
		"by what it needs":               {can, 40, 0, "48 <nil>"},
		"of what is in it":               {can, 40, 2, "40 <nil>"},
		"it keeps its size":              {not, 40, 0, "96 <nil>"},
		"nobody knows how little it has": {can, 0, 0, "0 leaves: nothing in it says how small it can be: name a size"},
	} {
		layers := storeys(can, c.shrink)
		layers[2].Min = c.min
		least, err := Least(layers, c.at)
		if got := fmt.Sprint(int64(least), " ", err); got != c.want {
			t.Errorf("%s: %s", name, got)
		}
	}
	fixed := storeys(can, can)[1:]
	fixed[0].Fixed = true
	for size, want := range map[quantity.Bytes]string{
		60: "[{1 90 B 60 B not mounted}] <nil>",
		90: "[] <nil>",
		95: "[] <nil>", // in tens: as it is
		96: "[] <nil>",
		99: "[] <nil>",
		// with its header and its copy it would need more than there is
		100: "[] case, case: it has 100 B (100 bytes), and 105 B (105 bytes) cannot be: its own size stays, and its contents have to fit",
	} {
		fixed[0].Name = "case"
		changes, _, err := Plan(fixed, 1, size)
		if got := fmt.Sprint(changes, " ", err); got != want {
			t.Errorf("%d in a fixed one: %s", size, got)
		}
	}
}
