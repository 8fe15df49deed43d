package block_test

import (
	"fmt"

	"fundus/core/block"
)

// What is written to an overlay the device below does not see; each sync closes a phase.
func Example() {
	disk := block.NewMemory(1<<20, block.DefaultGeometry)
	over := block.NewOverlay(disk, block.Spill{})
	for i, text := range []string{"herbarium", "mosses"} {
		if err := block.WriteBytes(over, []byte(text), int64(i)*4096); err != nil {
			fmt.Println(err)
		}
		if err := over.Sync(); err != nil {
			fmt.Println(err)
		}
	}
	above, _ := block.ReadSized(over, 4096, 6, 512)
	below, _ := block.ReadSized(disk, 4096, 6, 512)
	fmt.Printf("%d phases; above %q, below zeros: %v\n", over.Phases(), above, block.IsZero(below))
	// Output: 2 phases; above "mosses", below zeros: true
}
