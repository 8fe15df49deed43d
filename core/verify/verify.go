// Package verify checks where things lie and what names them, on an inventory
// alone: alignment, tables, contents, identifiers, references. One file a
// family of findings; All calls each.
package verify

import (
	"cmp"
	"slices"

	"fundus/core/finding"
	"fundus/core/inventory"
)

// All runs every family and sorts by severity, worst first, then by thing.
func All(v *inventory.Inventory) []finding.Finding {
	out := slices.Concat(alignment(v), tables(v), contents(v), identifiers(v), references(v), named(v), uses(v), fit(v))
	slices.SortStableFunc(out, func(a, b finding.Finding) int {
		return cmp.Or(cmp.Compare(b.Severity.Rank(), a.Severity.Rank()), cmp.Compare(a.Thing, b.Thing))
	})
	return out
}

// About keeps the findings on one device, its partitions, or its disk.
func About(v *inventory.Inventory, all []finding.Finding, name string) []finding.Finding {
	names := map[string]bool{}
	for _, n := range v.Family(name) {
		names[n.Name] = true
	}
	return slices.DeleteFunc(all, func(f finding.Finding) bool { return !names[f.Thing] })
}
