package probe_test

import (
	"fmt"

	"fundus/core/block"
	"fundus/core/probe"
	"fundus/core/probe/sample"
)

// A sample has the bytes that its probe goes by, and the rest is zeros.
func Example() {
	s := sample.All()[0]
	disk := block.NewMemory(s.Size, block.DefaultGeometry)
	for at, b := range s.Pieces {
		if err := block.WriteBytes(disk, b, at); err != nil {
			fmt.Println(err)
		}
	}
	c, err := probe.Btrfs(disk)
	fmt.Println(c.Kind, c.Label, c.State, err)
	// Output: btrfs herbarium in order <nil>
}
