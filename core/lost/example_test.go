package lost_test

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/fs/ext"
	"fundus/core/lost"
)

// A file system without a table is found by its superblock, and its partition proposed.
func Example() {
	disk := block.NewMemory(64<<20, block.DefaultGeometry)
	part, err := block.NewSlice(disk, 8<<20, 32<<20)
	if err == nil {
		_, err = ext.Make(context.Background(), part, ext.Usual(ext.Ext4).With("herbarium", uuid.New(), time.Unix(1, 0)))
	}
	if err != nil {
		fmt.Println(err)
	}
	found, err := lost.Find(context.Background(), disk, 1<<20, nil)
	fmt.Println(len(found), found[0].Content.Label, found[0].Span, found[0].Proposed, err)
	// Output: 1 herbarium 16384-81919 true <nil>
}
