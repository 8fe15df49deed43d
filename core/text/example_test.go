package text_test

import (
	"fmt"

	"fundus/core/text"
	"fundus/core/text/crypttab"
	"fundus/core/text/fstab"
)

// Files of different forms are changed in the same way.
func Example() {
	for _, f := range []struct {
		syntax text.Syntax
		data   string
	}{{fstab.Syntax{}, "/dev/sdb1  /srv/herbarium ext4\tdefaults 0 2\n"}, {crypttab.Syntax{}, "vault /dev/sdb1 none luks\n"}} {
		m := f.syntax.Mentions([]byte(f.data))[0]
		now, err := f.syntax.Say([]byte(f.data), m, "UUID=5eed")
		fmt.Printf("%d %s %q %v\n", m.Line, m.Spec, now, err)
	}
	// Output:
	// 1 /dev/sdb1 "UUID=5eed  /srv/herbarium ext4\tdefaults 0 2\n" <nil>
	// 1 /dev/sdb1 "vault UUID=5eed none luks\n" <nil>
}
