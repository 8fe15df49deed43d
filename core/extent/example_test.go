package extent_test

import (
	"fmt"

	"fundus/core/extent"
)

// The gaps between two partitions, cut down to whole MiB of 2048 sectors.
func Example() {
	room := extent.Span{Start: 34, Count: 20000}
	used := []extent.Span{{Start: 2048, Count: 2048}, {Start: 9000, Count: 1000}}
	for _, gap := range extent.Gaps(room, used) {
		fmt.Println(gap, "aligned:", gap.Inner(2048))
	}
	// Output:
	// 34-2047 aligned: 34+0
	// 4096-8999 aligned: 4096-8191
	// 10000-20033 aligned: 10240-18431
}
