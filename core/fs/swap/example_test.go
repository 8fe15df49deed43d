package swap_test

import (
	"fmt"

	"fundus/core/block"
	"fundus/core/fs/swap"
)

// The signature at the end of the first page says what a page is; the header behind the
// first KiB says how many there are.
func Example() {
	disk := block.NewMemory(1<<20, block.DefaultGeometry)
	for at, text := range map[int64]string{4086: "SWAPSPACE2", 1024: "\x01\x00\x00\x00\xff\x00\x00\x00", 1052: "seeds"} {
		if err := block.WriteBytes(disk, []byte(text), at); err != nil {
			fmt.Println(err)
		}
	}
	c, err := swap.Probe(disk)
	fmt.Println(c.Kind, c.Label, c.Size, err)
	// Output: swap seeds 1.0 MiB <nil>
}
