package bootcfg_test

import (
	"fmt"

	"fundus/core/text/bootcfg"
)

// What names a device is found, and replaced in its place.
func Example() {
	line := []byte("linux /vmlinuz root=UUID=5eed5eed-0000-4000-8000-000000000001 ro resume=/dev/sda2\n")
	found := bootcfg.Syntax{}.Mentions(line)
	for _, m := range found {
		fmt.Println(m.Line, m.By, m.Spec)
	}
	changed, err := bootcfg.Syntax{}.Say(line, found[1], "LABEL=rest")
	fmt.Print(string(changed), err, "\n")
	// Output:
	// 1 root UUID=5eed5eed-0000-4000-8000-000000000001
	// 1 resume /dev/sda2
	// linux /vmlinuz root=UUID=5eed5eed-0000-4000-8000-000000000001 ro resume=LABEL=rest
	// <nil>
}
