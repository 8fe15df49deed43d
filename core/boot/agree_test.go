package boot_test

import (
	"fmt"
	"strings"
	"testing"

	"fundus/core/boot"
	"fundus/test/agree"
)

// TestCheckAndRehearsalAgree goes through the machines of the table.
func TestCheckAndRehearsalAgree(t *testing.T) {
	n := 0
	for name, v := range boot.Machines(t) {
		wrong, lines := agree.Lines(v)
		n += lines
		if len(wrong) > 0 {
			t.Errorf("%s:\n%s", name, strings.Join(wrong, "\n"))
		}
	}
	fmt.Printf("check and rehearsal agree on %d lines of the table of machines\n", n)
}
