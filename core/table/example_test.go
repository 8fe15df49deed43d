package table_test

import (
	"fmt"

	"fundus/core/extent"
	"fundus/core/table"
)

// A table is plain data: what is free lies between its partitions, and a place for a new
// one begins on the alignment step.
func Example() {
	m := &table.Table{Scheme: table.GPT, Sector: 512, Slots: 128, Usable: extent.Span{Start: 34, Count: 100000},
		Parts: []table.Partition{{Number: 1, Span: extent.Span{Start: 2048, Count: 3000}}}}
	span, err := m.Place(4<<20, 1<<20)
	fmt.Println(m.Gaps(), span, err)
	// Output: [34-2047 5048-100033] 6144-14335 <nil>
}
