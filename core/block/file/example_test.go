package file_test

import (
	"fmt"
	"os"
	"path/filepath"

	"fundus/core/block"
	"fundus/core/block/file"
)

// An image file is a device: of the size that it was made with, and full of zeros that
// take no room.
func Example() {
	dir, err := os.MkdirTemp("", "")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "card.img")
	if err := file.Create(path, 1<<20); err != nil {
		fmt.Println(err)
	}
	disk, err := file.Open(path, true, block.DefaultGeometry)
	if err != nil {
		fmt.Println(err)
		return
	}
	defer disk.Close()
	_, end, hole, err := disk.Next(0)
	fmt.Println(disk.Size(), end, hole, err)
	// Output: 1048576 1048576 true <nil>
}
