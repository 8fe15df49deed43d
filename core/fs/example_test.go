package fs_test

import (
	"fmt"

	"fundus/core/fs"
)

// A setting is declared once; words are read by it, and written so that they read the same.
func Example() {
	reserved := fs.Setting{Key: "reserved", Form: fs.Share, Range: [2]int64{0, 500}}
	for _, word := range []string{"1.5%", "80%"} {
		n, err := reserved.Parse(word)
		fmt.Println(n, reserved.Word(n), err)
	}
	// Output:
	// 15 1.5% <nil>
	// 0 0% reserved=80%: not a value of this setting; it takes 0% to 50%
}
