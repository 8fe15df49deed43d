package kind_test

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/kind"
)

// Whatever is made by its word is recognised, and what it was made with is read back.
func Example() {
	disk := block.NewMemory(1<<30, block.DefaultGeometry)
	m, err := kind.FindMaker("ext4")
	if err != nil {
		fmt.Println(err)
		return
	}
	order := fs.Order{Label: "herbarium", ID: m.ID.Fresh(uuid.New()), Wishes: fs.Wishes{"reserved": {Word: "1%", By: fs.ByRequest}}, Time: time.Unix(0, 0), Fresh: uuid.New}
	made, err := m.Make(context.Background(), disk, order)
	if err != nil {
		fmt.Println(err)
	}
	for _, v := range made.Values {
		if v.By.Chosen() {
			fmt.Println(v.Key, v.Word, v.By)
		}
	}
	found, err := kind.Probe(disk)
	fmt.Println(len(found), found[0].Kind, found[0].Label, found[0].MountsAs("auto"), err)
	// Output:
	// reserved 1% asked
	// 1 ext4 herbarium true <nil>
}
