package quantity_test

import (
	"fmt"

	"fundus/core/quantity"
)

// A size that somebody typed becomes bytes once it is known of what.
func Example() {
	for _, word := range []string{"1.5GiB", "25%", "100sectors", "8"} {
		size, err := quantity.Parse(word)
		if err != nil {
			fmt.Println(err)
			continue
		}
		bytes, err := size.Resolve(4096, 64*quantity.GiB)
		fmt.Println(word, "=", int64(bytes), "bytes =", bytes, err)
	}
	// Output:
	// 1.5GiB = 1610612736 bytes = 1.5 GiB <nil>
	// 25% = 17179869184 bytes = 16.0 GiB <nil>
	// 100sectors = 409600 bytes = 400.0 KiB <nil>
	// "8": no unit: write KiB MiB GiB TiB (1024), kB MB GB TB (1000), B, sectors, % or max, as in 8GiB or 8sectors
}
