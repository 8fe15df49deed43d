package xfs_test

import (
	"fmt"

	"fundus/core/block"
	"fundus/core/fs/xfs"
)

// What is not there is no error: zeros hold no file system.
func Example() {
	c, err := xfs.Probe(block.NewMemory(64<<20, block.DefaultGeometry))
	fmt.Println(c == nil, err)
	// Output: true <nil>
}
