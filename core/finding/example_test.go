package finding_test

import (
	"fmt"

	"fundus/core/finding"
)

// A finding has its severity from the catalogue; who makes it says of what, and what
// mends it.
func Example() {
	unstable := finding.Entry{ID: "fstab-unstable-name", Severity: finding.Warning, Why: "kernel names change between boots"}
	f := unstable.New("line 3", "%s is a kernel name", "/dev/sdb1").WithRemedy("name it by UUID")
	fmt.Println(f.ID, f.Severity, f.Thing, f.Text)
	// Output: fstab-unstable-name warning line 3 /dev/sdb1 is a kernel name
}
