package fstab_test

import (
	"fmt"

	"fundus/core/text/fstab"
)

// A line is added, and every other byte stays.
func Example() {
	table := fstab.Parse([]byte("# fernhill\nUUID=8d0c\t/  ext4 defaults 0 1"))
	line, err := table.Add(fstab.Entry{Spec: "LABEL=herbarium", Dir: "/srv/pressed ferns", Type: "ext4", Options: []string{"noatime"}, Pass: 2}, 0)
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Printf("line %d:\n%s", line.Number, table.Bytes())
	// Output:
	// line 3:
	// # fernhill
	// UUID=8d0c	/  ext4 defaults 0 1
	// LABEL=herbarium /srv/pressed\040ferns ext4 noatime 0 2
}
