package mbr_test

import (
	"fmt"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/table"
	"fundus/core/table/mbr"
)

// What lies inside the extended partition is logical, and numbered from 5.
func Example() {
	t, err := mbr.New(block.NewMemory(64<<20, block.DefaultGeometry), 0x5eed5eed)
	for _, p := range []table.Partition{{Span: extent.Span{Start: 2048, Count: 40960}, Type: "0f"}, {Span: extent.Span{Start: 4096, Count: 8192}, Type: "83"}} {
		if err == nil {
			err = t.Add(p)
		}
	}
	for _, p := range t.Model().Parts {
		fmt.Println(p.Number, p.Role, p.Span, p.UUID)
	}
	fmt.Println(err)
	// Output:
	// 1 extended 2048-43007 5eed5eed-01
	// 5 logical 4096-12287 5eed5eed-05
	// <nil>
}
