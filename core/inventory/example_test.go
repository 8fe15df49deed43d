package inventory_test

import (
	"fmt"

	"fundus/core/fs"
	"fundus/core/inventory"
)

// An identifier may mean one device, none, or two that carry the same.
func Example() {
	node := func(name, label string) inventory.Node {
		return inventory.Node{Name: name, Form: inventory.Partition, Contents: []fs.Content{{Kind: "ext4", Class: fs.FileSystem, Label: label}}}
	}
	v := &inventory.Inventory{Nodes: []inventory.Node{node("sda1", "seeds"), node("sdb1", "mosses"), node("sdc1", "mosses")}}
	fmt.Println(len(v.Resolve("LABEL=seeds")), len(v.Resolve("LABEL=ferns")), len(v.Resolve("LABEL=mosses")))
	// Output: 1 0 2
}
