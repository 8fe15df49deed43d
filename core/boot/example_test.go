package boot_test

import (
	"fmt"

	"fundus/core/boot"
	"fundus/core/fs"
	"fundus/core/inventory"
)

// A line of fstab that names no device sends the next boot to the emergency shell.
func Example() {
	v := &inventory.Inventory{
		Nodes: []inventory.Node{{Name: "sda1", Path: "/dev/sda1", Form: inventory.Partition, Contents: []fs.Content{{Kind: "ext4", Class: fs.FileSystem, Label: "fernhill", State: fs.Clean}}}},
		Files: map[string]inventory.File{"/etc/fstab": {Data: []byte("LABEL=fernhill / ext4 defaults 0 1\nLABEL=scans /srv/scans ext4 defaults 0 2\n")}},
	}
	r := boot.Rehearse(v)
	fmt.Println(r.Verdict)
	for _, l := range r.Lines {
		fmt.Println(l.Dir, l.Outcome)
	}
	// Output:
	// emergency shell
	// / mounted
	// /srv/scans emergency shell
}
