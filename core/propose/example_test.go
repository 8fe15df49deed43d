package propose_test

import (
	"fmt"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/propose"
)

// A card that can be pulled out does not stop the boot.
func Example() {
	n := inventory.Node{Name: "sdc", Form: inventory.Disk, Hardware: inventory.Hardware{Removable: true}, Contents: []fs.Content{{Kind: "ext4", Class: fs.FileSystem, Pass: 2}}}
	v := &inventory.Inventory{Nodes: []inventory.Node{n}}
	line, err := propose.For(v, n, propose.Ask{Dir: "/media/card"})
	fmt.Println(line.Entry.Options, line.Entry.Pass, err)
	for _, r := range line.Reasons {
		fmt.Printf("%s: %s\n", r.Option, r.Why)
	}
	// Output:
	// [nofail x-systemd.device-timeout=5s] 2 <nil>
	// nofail: it can be pulled out: the boot must not stop without it
	// x-systemd.device-timeout=5s: where it is missing, the boot waits no longer for it
}
