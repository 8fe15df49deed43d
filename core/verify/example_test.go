package verify_test

import (
	"fmt"

	"fundus/core/inventory"
	"fundus/core/text/fstab"
	"fundus/core/verify"
)

// A line that names nothing is found, with what it does to the next boot.
func Example() {
	v := &inventory.Inventory{Files: map[string]inventory.File{fstab.Path: {Data: []byte("UUID=gone /srv/herbarium ext4 defaults 0 2\n")}}}
	for _, f := range verify.All(v) {
		fmt.Println(f.Severity, f.Thing, f.ID)
		fmt.Println(f.Why)
	}
	// Output:
	// error /etc/fstab:1 fstab-names-nothing
	// the boot waits for the device, and then stops unless the line has nofail
}
