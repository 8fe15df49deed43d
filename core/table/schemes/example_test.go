package schemes_test

import (
	"fmt"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/table"
	"fundus/core/table/schemes"
)

// A table is made, given a partition, written, and opened again.
func Example() {
	disk := block.NewMemory(64<<20, block.DefaultGeometry)
	e, err := schemes.New(disk, schemes.Wanted{Scheme: table.MBR, Step: 1 << 20, ID: uuid.MustParse("5eed5eed-0000-4000-8000-000000000001")})
	if err != nil {
		fmt.Println(err)
		return
	}
	kind, err := table.ParseType(table.MBR, "linux")
	if err != nil {
		fmt.Println(err)
	}
	if err := e.Add(table.Partition{Number: 1, Span: extent.Span{Start: 2048, Count: 20480}, Type: kind}); err != nil {
		fmt.Println(err)
	}
	if _, err := e.Write(disk); err != nil {
		fmt.Println(err)
	}
	again, _, err := schemes.Open(disk)
	if err != nil {
		fmt.Println(err)
		return
	}
	t := again.Model()
	fmt.Println(t.Scheme, t.ID, t.Parts[0].Number, t.Parts[0].Span, t.Parts[0].Type)
	// Output: mbr 5eed5eed 1 2048-22527 83
}
