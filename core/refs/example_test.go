package refs_test

import (
	"fmt"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/refs"
)

// Which lines name a device, whatever they call it.
func Example() {
	v := &inventory.Inventory{
		Nodes: []inventory.Node{{Name: "sdb1", Path: "/dev/sdb1", Form: inventory.Partition, Contents: []fs.Content{{Kind: "ext4", Class: fs.FileSystem, Label: "herbarium"}}}},
		Files: map[string]inventory.File{"/etc/fstab": {Data: []byte("LABEL=herbarium /srv/herbarium ext4 defaults 0 2\n")}, "/etc/crypttab": {Data: []byte("vault /dev/sdb1 none luks\n")}},
	}
	for _, r := range refs.Of(v, "sdb1") {
		fmt.Println(r.Path, r.Line, r.Spec)
	}
	// Output:
	// /etc/crypttab 1 /dev/sdb1
	// /etc/fstab 1 LABEL=herbarium
}
