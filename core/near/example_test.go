package near_test

import (
	"fmt"

	"fundus/core/near"
)

func Example() {
	fmt.Println(near.Distance("noatiem", "noatime"), near.Distance("sdb", "sdb1"), near.Distance("", "ext4"))
	// Output: 2 1 4
}
