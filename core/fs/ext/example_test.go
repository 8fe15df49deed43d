package ext_test

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/fs/ext"
)

// A file system is made, recognised, and given another label.
func Example() {
	dev := block.NewMemory(1<<30, block.DefaultGeometry)
	id := uuid.MustParse("5eed0000-0000-4000-8000-00000000fe11")
	if _, err := ext.Make(context.Background(), dev, ext.Usual(ext.Ext4).With("herbarium", id, time.Unix(1772352000, 0))); err != nil {
		fmt.Println(err)
		return
	}
	if err := ext.SetLabel(dev, "mosses"); err != nil {
		fmt.Println(err)
	}
	c, _ := ext.Probe(dev)
	fmt.Println(c.Kind, c.Label, c.UUID, c.Size, c.State)
	// Output: ext4 mosses 5eed0000-0000-4000-8000-00000000fe11 1.0 GiB in order
}
