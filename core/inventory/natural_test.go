package inventory

import (
	"slices"
	"testing"
)

func TestNatural(t *testing.T) {
	want := []string{"dm-2", "dm-10", "nvme0n1", "nvme2n1", "nvme10n1", "sda", "sdb", "sdz", "sdaa", "vda"}
	got := slices.Clone(want)
	slices.Reverse(got)
	slices.SortFunc(got, Natural)
	if !slices.Equal(got, want) {
		t.Errorf("%v", got)
	}
}
