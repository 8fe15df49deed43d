package target

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"sort"
	"strings"

	"fundus/core/advice"
	"fundus/core/inventory"
	"fundus/core/scan"
)

// Errors of targets.
var (
	ErrNoTarget = errors.New("no such device")
	ErrTwoFit   = errors.New("carried by two devices")
	ErrNotDisk  = errors.New("not a whole disk")
	ErrNotPart  = errors.New("not a partition")
	ErrNoTable  = errors.New("no partition table to work on")
)

// Resolve finds the device that the word means: a path, a mount point, an
// identifier, or a name.
//
// The order is that of what can be meant by accident least: the name of a device first,
// then identifiers, then what is mounted, and last what fstab would mount there, which may
// be a device that is not even used now.
func Resolve(v *inventory.Inventory, word string) (inventory.Node, error) {
	if n, ok := v.Node(word); ok {
		return n, nil
	}
	if strings.Contains(word, "=") || strings.HasPrefix(word, "/") {
		if found := v.Resolve(word); len(found) > 0 {
			return only(word, found)
		}
	}
	if use, ok := v.MountedAt(word); ok {
		n, _ := v.Node(use.Node)
		return n, nil
	}
	if strings.HasPrefix(word, "/") {
		by := v.Resolver()
		for _, l := range v.Fstab().Entries() {
			if found := by.Resolve(l.Entry.Spec); l.Entry.Dir == filepath.Clean(word) && len(found) > 0 {
				return only(l.Entry.Spec, found)
			}
		}
	}
	return inventory.Node{}, fmt.Errorf("%q: %w%s", word, ErrNoTarget, nearest(v, word))
}

// Two devices with one identifier are a copied disk: to take the first would be to choose
// by the order of discovery which of the two is overwritten.
func only(word string, found []inventory.Node) (inventory.Node, error) {
	if len(found) > 1 {
		return inventory.Node{}, fmt.Errorf("%s: %w: %s and %s; name the one you mean", word, ErrTwoFit, found[0].Name, found[1].Name)
	}
	return found[0], nil
}

// nearest suggests names that differ little.
//
// Only names are compared: a suggestion is what is there, not what might be meant.
func nearest(v *inventory.Inventory, word string) string {
	type near struct {
		name     string
		distance int
	}
	var list []near
	for _, n := range v.Nodes {
		list = append(list, near{n.Name, distance(n.Name, filepath.Base(word))})
	}
	if len(list) == 0 {
		return "; an image file is named by its path, and a bench (fundus bench new) is a machine to try things on"
	}
	sort.SliceStable(list, func(a, b int) bool { return list[a].distance < list[b].distance })
	var names []string
	for _, n := range list[:min(3, len(list))] {
		names = append(names, n.name)
	}
	return "; there is " + strings.Join(names, ", ")
}

// distance is how many letters must be added, dropped or changed.
//
// The number of changes, after Levenshtein: names are short, so the plain way will do.
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for i := range row {
		row[i] = i
	}
	for i := range len(a) {
		diagonal := row[0]
		row[0] = i + 1
		for k := range len(b) {
			cost := diagonal
			if a[i] != b[k] {
				cost++
			}
			diagonal = row[k+1]
			row[k+1] = slices.Min([]int{row[k+1] + 1, row[k] + 1, cost})
		}
	}
	return row[len(b)]
}

// Disk resolves a word that must mean a whole disk.
func Disk(v *inventory.Inventory, word string) (inventory.Node, error) {
	n, err := Resolve(v, word)
	if err == nil && n.Parent != "" {
		err = fmt.Errorf("%s: %w: it is partition %d of %s; did you mean %s?", word, ErrNotDisk, n.Number, n.Parent, n.Parent)
	}
	return n, err
}

// Partition resolves a word that must mean a partition.
func Partition(v *inventory.Inventory, word string) (inventory.Node, error) {
	n, err := Resolve(v, word)
	if err == nil && n.Parent == "" {
		err = advice.Way(fmt.Errorf("%s: %w", n.Name, ErrNotPart), "fundus partition list %s", n.Name)
	}
	return n, err
}

// Gone reports whether the word is the name of a partition that a disk could have and has
// not: "sdb7" beside a table without a seventh partition.
func Gone(v *inventory.Inventory, word string) bool {
	const most = 256 // numbers that Linux has devices for
	for _, d := range v.Disks() {
		if d.Table == nil || !strings.HasPrefix(word, d.Name) && !strings.HasPrefix(word, d.Path) {
			continue
		}
		for n := 1; n < most; n++ {
			if name, path := scan.Name(d, n); name == word || path == word {
				_, there := v.Node(name)
				return !there
			}
		}
	}
	return false
}

// NoTable says that the disk has none, and what may be done about it.
func NoTable(v *inventory.Inventory, n inventory.Node) error {
	a := advice.For(v, n, advice.Table)
	err := fmt.Errorf("%s: %w: %s", n.Name, ErrNoTable, a.Why)
	if a.Next == "" {
		return err
	}
	return advice.Way(err, "%s", a.Next)
}
