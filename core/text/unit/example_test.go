package unit_test

import (
	"fmt"

	"fundus/core/text/unit"
)

// A setting is changed, and every other byte stays.
func Example() {
	u := unit.Parse([]byte("# of the curator\n[Mount]\nWhat = LABEL=herbarium\nWhere=/srv/herbarium\n"))
	what, _ := u.What()
	fmt.Print(string(u.Set(what, "LABEL=mosses").Bytes()))
	fmt.Println(unit.Name("/srv/seed bank", "mount"))
	// Output:
	// # of the curator
	// [Mount]
	// What = LABEL=mosses
	// Where=/srv/herbarium
	// srv-seed\x20bank.mount
}
