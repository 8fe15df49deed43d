package target_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/target"
	"fundus/core/text/fstab"
)

func fernhill() *inventory.Inventory {
	part := func(name, id string) inventory.Node {
		return inventory.Node{Name: name, Path: "/dev/" + name, Form: inventory.Partition, Parent: name[:3], Number: 1, Contents: []fs.Content{{Kind: "ext4", Class: fs.FileSystem, UUID: id}}}
	}
	disk := func(name string) inventory.Node {
		return inventory.Node{Name: name, Path: "/dev/" + name, Form: inventory.Disk}
	}
	return &inventory.Inventory{Nodes: []inventory.Node{disk("sda"), part("sda1", "root"), disk("sdb"), part("sdb1", "herb"), disk("sdc"), part("sdc1", "herb")},
		Uses:  []inventory.Use{{Node: "sda1", How: inventory.Mounted, Where: "/"}},
		Files: map[string]inventory.File{fstab.Path: {Data: []byte("UUID=root /old ext4 defaults 0 1\nUUID=herb /srv/herbarium ext4 defaults 0 2\n")}}}
}

// A word that is a mount point means what is mounted there.
func Example() {
	n, err := target.Resolve(fernhill(), "/")
	fmt.Println(n.Name, err)
	_, err = target.Disk(fernhill(), "sda1")
	fmt.Println(err)
	// Output:
	// sda1 <nil>
	// sda1: not a whole disk: it is partition 1 of sda; did you mean sda?
}

// TestResolve: what fits one device is found, what fits two or none is refused and never
// guessed.
func TestResolve(t *testing.T) {
	v := fernhill()
	for word, want := range map[string]string{"sdb1": "sdb1", "/dev/sdb1": "sdb1", "UUID=root": "sda1", "/": "sda1", "/old": "sda1", "sda": "sda"} {
		if n, err := target.Resolve(v, word); err != nil || n.Name != want {
			t.Errorf("%s: %s, %v", word, n.Name, err)
		}
	}
	for word, want := range map[string]error{"UUID=herb": target.ErrTwoFit, "/srv/herbarium": target.ErrTwoFit, "sdb2": target.ErrNoTarget, "UUID=gone": target.ErrNoTarget, "/nowhere": target.ErrNoTarget, "": target.ErrNoTarget} {
		if n, err := target.Resolve(v, word); !errors.Is(err, want) {
			t.Errorf("%s: %s, %v", word, n.Name, err)
		}
	}
	if _, err := target.Resolve(v, "sdb2"); !strings.Contains(err.Error(), "there is sdb, sdb1") {
		t.Errorf("what comes nearest: %v", err)
	}
	if _, err := target.Partition(v, "sdb"); !errors.Is(err, target.ErrNotPart) {
		t.Errorf("a disk for a partition: %v", err)
	}
}
