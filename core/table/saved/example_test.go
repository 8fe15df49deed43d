package saved_test

import (
	"fmt"

	"fundus/core/extent"
	"fundus/core/table"
	"fundus/core/table/saved"
)

// A table is written as a document, and read again with everything held against it.
func Example() {
	m := &table.Table{Scheme: table.MBR, ID: "5eed5eed", Sector: 512, Slots: 4, Parts: []table.Partition{{Number: 1, Span: extent.Span{Start: 2048, Count: 4096}, Type: "83"}}}
	b, err := saved.Save(m, saved.Disk{Identity: "sata Larkspur S300 LS-20417", Size: 64 << 20, Sector: 512}).Encode()
	if err != nil {
		fmt.Println(err)
	}
	d, err := saved.Decode(b)
	fmt.Println(d.Scheme, d.ID, d.Partitions[0].First, err)
	_, err = saved.Decode([]byte(`{"fundus": 2}`))
	fmt.Println(err)
	// Output:
	// mbr 5eed5eed 2048 <nil>
	// not a saved table: its kind is ""
}
