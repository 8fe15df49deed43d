package memory

import (
	"fmt"
	"testing"

	"fundus/core/inventory"
	"fundus/core/quantity"
)

// TestGiveUp: what is in use has to fit into memory and the areas that stay, with something
// left over; an empty area can always be given up.
func TestGiveUp(t *testing.T) {
	const g = quantity.GiB
	areas := []inventory.Area{{Path: "a", Size: 4 * g, Used: 3 * g}, {Path: "b", Size: 2 * g, Used: g}}
	for _, c := range []struct {
		available quantity.Bytes
		off       []string
		fits      bool
	}{
		{3 * g, []string{"a"}, true}, {2*g + 820*quantity.MiB, []string{"a"}, true}, {2*g + 100*quantity.MiB, []string{"a"}, false},
		{4*g + 820*quantity.MiB, []string{"a", "b"}, true}, {4*g + 810*quantity.MiB, []string{"a", "b"}, false}, {0, []string{"b"}, false}, {0, []string{"c"}, true},
	} {
		s := GiveUp(inventory.Memory{Total: 16 * g, Available: c.available}, areas, c.off...)
		if s.Fits() != c.fits {
			t.Errorf("%v available, without %v: %v", c.available, c.off, s)
		}
	}
	if s := GiveUp(inventory.Memory{Total: 64 * quantity.MiB, Available: 20 * quantity.MiB}, nil, "a"); !s.Fits() || s.Room() != 0 {
		t.Errorf("a small machine: %v", s)
	}
}

func Example() {
	m := inventory.Memory{Total: 2 * quantity.GiB, Available: 600 * quantity.MiB}
	s := GiveUp(m, []inventory.Area{{Path: "/dev/sda3", Size: 4 * quantity.GiB, Used: quantity.GiB}}, "/dev/sda3")
	fmt.Println(s.Fits())
	fmt.Println(s)
	// Output:
	// false
	// 1.0 GiB is in use; 600.0 MiB of memory can be had and 0 B is free on other areas, less 128.0 MiB that stay for others: space for 472.0 MiB
}
