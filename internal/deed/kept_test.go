package deed

import (
	"fmt"
	"testing"
	"time"
)

// TestKept: the newest state comes first, one that is seen again is not kept twice, clocks
// that go back change nothing, and only so many are kept.
func TestKept(t *testing.T) {
	s := &Store{Dir: t.TempDir()}
	at := time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	for i := range mostKept + 5 {
		if err := s.Keep("/etc/fstab", fmt.Appendf(nil, "state %d", i), at.Add(-time.Duration(i)*time.Hour)); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.Keep("/etc/fstab", []byte("state 9"), at); err != nil {
		t.Fatal(err)
	}
	all, err := s.Kept("/etc/fstab")
	if err != nil || len(all) != mostKept || string(all[0].Data) != "state 9" || string(all[1].Data) != "state 14" || string(all[mostKept-1].Data) != "state 5" {
		t.Fatalf("%d, %v", len(all), err)
	}
	if other, err := s.Kept("/etc/crypttab"); err != nil || len(other) > 0 {
		t.Errorf("another file: %v, %v", other, err)
	}
}
