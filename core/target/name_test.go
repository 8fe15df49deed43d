package target_test

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/table"
	"fundus/core/target"
)

// TestAWordGivenBackMeansTheSame: over machines at random, on which disks say the same of
// themselves, say nothing, have serial numbers that look like a partition of another, and carry each
// other's identifiers, every word that a device is given means that device; and it is stable in no
// case where it is the kernel's name.
func TestAWordGivenBackMeansTheSame(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 2))
	pick := func(words ...string) string { return words[rng.IntN(len(words))] }
	stable, shaky := 0, 0
	for range 500 {
		v := &inventory.Inventory{}
		for d := range 1 + rng.IntN(4) {
			name := fmt.Sprintf("sd%c", 'a'+d)
			disk := inventory.Node{Name: name, Path: "/dev/" + name, Form: inventory.Disk, Table: &table.Table{}, Hardware: inventory.Hardware{
				Serial: pick("", "LS-20417", "LS-20417:1", "TA 7731", "ls-20417"), WWN: pick("", "", "naa.5eed01", "naa.5eed02")}}
			if rng.IntN(3) == 0 {
				disk.Links = []string{pick("/dev/disk/by-id/one", "/dev/disk/by-id/two", "/dev/disk/by-path/pci-1")}
			}
			v.Nodes = append(v.Nodes, disk)
			for p := range rng.IntN(3) {
				v.Nodes = append(v.Nodes, inventory.Node{Name: fmt.Sprint(name, p+1), Path: fmt.Sprint("/dev/", name, p+1), Form: inventory.Partition, Parent: name, Number: p + 1, Hardware: disk.Hardware,
					Entry: table.Partition{Number: p + 1, UUID: pick("", root, herb), Name: pick("", "herbarium")}, Contents: []fs.Content{{Kind: "ext4", Class: fs.FileSystem, UUID: pick("", root, herb), Label: pick("", "a:1", "scans")}}})
			}
		}
		for name, c := range target.Called(v, v.Nodes) {
			for _, word := range append([]string{c.Word}, c.Also...) {
				if n, err := target.Resolve(v, word); err != nil || n.Name != name {
					t.Fatalf("%s is called %q, which means %q (%v)\n%+v", name, word, n.Name, err, v.Nodes)
				}
			}
			if c.Stable == (c.Word == name) {
				t.Errorf("%s: %q is stable: %v", name, c.Word, c.Stable)
			}
			if c.Stable {
				stable++
			} else {
				shaky++
			}
		}
	}
	if stable < 500 || shaky < 100 {
		t.Errorf("%d stable words, %d others", stable, shaky)
	}
}
