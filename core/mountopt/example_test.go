package mountopt_test

import (
	"fmt"

	"fundus/core/mountopt"
)

// A line's options go to different places, and one that no row has is named with the
// nearest.
func Example() {
	t := mountopt.For("fern", []mountopt.Option{mountopt.With("commit", mountopt.Number, "seconds between commits")})
	s := t.Sort([]string{"user", "exec", "commit=30", "nofail"})
	fmt.Println(s.Attributes, s.Own, s.Boot)
	for _, f := range t.Check([]string{"comit=30"}, nil) {
		fmt.Println(f.Says+";", f.Instead)
	}
	// Output:
	// [nosuid nodev exec] [commit=30] [nofail]
	// fern does not know "comit=30"; commit=30
}
