package scan_test

import (
	"fmt"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/scan"
	"fundus/core/table"
	"fundus/core/table/schemes"
)

// A disk becomes a node, and each of its partitions another one.
func Example() {
	disk := block.NewMemory(64<<20, block.DefaultGeometry)
	t, err := schemes.New(disk, schemes.Wanted{Scheme: table.MBR, Step: 1 << 20, ID: uuid.New()})
	if err == nil {
		err = t.Add(table.Partition{Span: extent.Span{Start: 2048, Count: 4096}, Type: "83"})
	}
	if err == nil {
		_, err = t.Write(disk)
	}
	for _, n := range scan.Disk(inventory.Node{Name: "sdb", Path: "/dev/sdb", Form: inventory.Disk, Size: 64 * quantity.MiB, Geometry: disk.Geometry()}, disk) {
		fmt.Println(n.Name, n.Path, n.Size, n.Form)
	}
	fmt.Println(err)
	// Output:
	// sdb /dev/sdb 64.0 MiB disk
	// sdb1 /dev/sdb1 2.0 MiB partition
	// <nil>
}
