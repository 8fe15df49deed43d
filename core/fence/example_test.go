package fence_test

import (
	"fmt"

	"fundus/core/block"
	"fundus/core/fence"
)

// A fenced device says which deed it waits for.
func Example() {
	disk := block.NewMemory(1<<20, block.DefaultGeometry)
	b := fence.Encode(fence.Fence{Deed: "0007-5eed5eed", Store: "/var/lib/fundus", Device: "Larkspur S300", Command: "fundus recover 7"})
	if err := block.WriteBytes(disk, b, 0); err != nil {
		fmt.Println(err)
	}
	c, err := fence.Probe(disk)
	fmt.Println(c.Kind, c.UUID, err)
	// Output: fenced 0007-5eed5eed <nil>
}
