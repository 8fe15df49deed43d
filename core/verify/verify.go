// Package verify checks where things lie and what names them, on an inventory
// alone: alignment, tables, contents, identifiers, references. One file a
// family of findings; All calls each.
package verify

import (
	"cmp"
	"slices"

	"fundus/core/boot"
	"fundus/core/finding"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/text/fstab"
)

// look is what several families go by, worked out once.
//
// Resolving names and counting lines goes over the whole machine; each family doing it for
// itself cost as much as the survey.
type look struct {
	v       *inventory.Inventory
	by      *inventory.Resolver
	fstab   *fstab.File
	units   []fstab.Unit   // what systemd makes of its lines
	sameDir map[string]int // how many lines have the mount point
	swaps   []inventory.Node
	roots   []inventory.Node // what is mounted at /
	remade  map[string]Remade
	boot    boot.Report // what the next one makes of the lines
}

func newLook(v *inventory.Inventory) *look {
	l := &look{v: v, by: v.Resolver(), fstab: v.Fstab(), units: v.Units(), sameDir: map[string]int{}, boot: boot.Rehearse(v)}
	for _, n := range v.Nodes {
		if c, ok := n.Content(); ok && c.Class == fs.Swap {
			l.swaps = append(l.swaps, n)
		}
	}
	if root, ok := v.MountedAt("/"); ok {
		n, _ := v.Node(root.Node)
		l.roots = []inventory.Node{n}
	}
	for _, line := range l.fstab.Entries() {
		l.sameDir[line.Entry.Dir]++
	}
	return l
}

// All runs every family and sorts by severity, worst first, then by thing.
func All(v *inventory.Inventory) []finding.Finding {
	all, _ := Judge(v)
	return all
}

// Judge gives the findings of All, and the next boot, which some of them go by.
func Judge(v *inventory.Inventory) ([]finding.Finding, boot.Report) {
	l := newLook(v)
	references := l.references()
	out := slices.Concat(alignment(v), tables(v), contents(v), identifiers(v), references, l.foretold(references),
		l.named(), l.offsets(), l.uses(), l.unitFiles(), fit(v))
	slices.SortStableFunc(out, func(a, b finding.Finding) int {
		return cmp.Or(cmp.Compare(b.Severity.Rank(), a.Severity.Rank()), cmp.Compare(a.Thing, b.Thing))
	})
	return out, l.boot
}

// About keeps the findings on one device, its partitions, or its disk.
func About(v *inventory.Inventory, all []finding.Finding, name string) []finding.Finding {
	names := map[string]bool{}
	for _, n := range v.Family(name) {
		names[n.Name] = true
	}
	return slices.DeleteFunc(all, func(f finding.Finding) bool { return !names[f.Thing] })
}
