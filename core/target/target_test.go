package target_test

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"testing"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/table"
	"fundus/core/target"
	"fundus/core/text/fstab"
)

// Two partitions carry herb: a disk was copied.
const (
	root = "5eed0000-0000-4000-8000-00000000c0de"
	herb = "72bec981-c1ce-4aeb-b4e9-7721c1818403"
)

func fernhill() *inventory.Inventory {
	part := func(name, id string) inventory.Node {
		id = map[string]string{"root": root, "herb": herb}[id]
		return inventory.Node{Name: name, Path: "/dev/" + name, Form: inventory.Partition, Parent: name[:3], Number: 1, Hardware: inventory.Hardware{Serial: "LS-20417"},
			Contents: []fs.Content{{Kind: "ext4", Class: fs.FileSystem, UUID: id, Label: "on-" + name}}, Device: "8:" + strconv.Itoa(int(name[2]-'a')*16+1)}
	}
	disk := func(name string) inventory.Node {
		return inventory.Node{Name: name, Path: "/dev/" + name, Form: inventory.Disk, Table: &table.Table{}, Hardware: inventory.Hardware{Serial: map[string]string{"sdb": "LS-20417", "sdc": "TA-7731"}[name]}}
	}
	return &inventory.Inventory{Nodes: []inventory.Node{disk("sda"), part("sda1", "root"), disk("sdb"), part("sdb1", "herb"), disk("sdc"), part("sdc1", "herb")},
		Uses:  []inventory.Use{{Node: "sda1", How: inventory.Mounted, Where: "/"}},
		Files: map[string]inventory.File{fstab.Path: {Data: []byte("UUID=" + root + " /old ext4 defaults 0 1\nUUID=" + herb + " /srv/herbarium ext4 defaults 0 2\n")}}}
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
	for word, want := range map[string]string{"sdb1": "sdb1", "/dev/sdb1": "sdb1", "UUID=" + root: "sda1", "/": "sda1", "/old": "sda1", "sda": "sda"} {
		if n, err := target.Resolve(v, word); err != nil || n.Name != want {
			t.Errorf("%s: %s, %v", word, n.Name, err)
		}
	}
	for word, want := range map[string]error{"UUID=" + herb: target.ErrTwoFit, "/srv/herbarium": target.ErrTwoFit, "sdb2": target.ErrNoTarget, "UUID=gone": target.ErrNoTarget, "/nowhere": target.ErrNoTarget, "": target.ErrNoTarget} {
		if n, err := target.Resolve(v, word); !errors.Is(err, want) {
			t.Errorf("%s: %s, %v", word, n.Name, err)
		}
	}
	if _, err := target.Resolve(v, "sdb2"); !strings.Contains(err.Error(), "sdb has sdb1") {
		t.Errorf("what comes nearest: %v", err)
	}
	if n, err := target.Look(v, "sdb2"); !errors.Is(err, target.ErrNoTarget) {
		t.Errorf("a look: %s, %v", n.Name, err)
	}
	if _, err := target.Partition(v, "sdb"); !errors.Is(err, target.ErrNotPart) {
		t.Errorf("a disk for a partition: %v", err)
	}
}

// TestForms: a device is named in every form that somebody reads off a label, a log or a
// screen. What names it exactly is taken by all commands; what only belongs to it, by those
// that look, and a change is answered with the name.
func TestForms(t *testing.T) {
	v := fernhill()
	for word, want := range map[string]string{"sdb:1": "sdb1", "sdb1/": "sdb1", "UUID=" + strings.ToUpper(root): "sda1", "serial=LS-20417": "sdb", "/dev/disk/by-label/on-sdc1": "sdc1", "LABEL=on-sdb1": "sdb1"} {
		if n, err := target.Resolve(v, word); err != nil || n.Name != want {
			t.Errorf("%s: %s, %v", word, n.Name, err)
		}
	}
	for word, want := range map[string]string{"LS-20417": "sdb", "on-sdb1": "sdb1", "5EED0000-": "sda1", "UUID=5eed0000": "sda1", "8:17": "sdb1"} {
		if n, err := target.Look(v, word); err != nil || n.Name != want {
			t.Errorf("look at %s: %s, %v", word, n.Name, err)
		}
		if n, err := target.Resolve(v, word); !errors.Is(err, target.ErrNoTarget) || !strings.Contains(err.Error(), " of "+want+";") {
			t.Errorf("change %s: %s, %v", word, n.Name, err)
		}
	}
	for word, want := range map[string]error{"72bec981": target.ErrTwoFit, "UUID=72bec9": target.ErrNoTarget, "ON-SDB1": target.ErrNoTarget, "LABEL=ON-SDB1": target.ErrNoTarget, "sdb:7": target.ErrNoTarget, "8:99": target.ErrNoTarget, "/dev/disk/by-id/on-sdc1": target.ErrNoTarget} {
		if n, err := target.Look(v, word); !errors.Is(err, want) {
			t.Errorf("look at %s: %s, %v", word, n.Name, err)
		}
	}
}
