package table

import "fundus/core/finding"

// What is found in tables of any scheme.
var (
	Overlap = finding.Entry{ID: "table-overlap", Severity: finding.Error, Why: "writing to one partition destroys the other"}
	Beyond  = finding.Entry{ID: "table-beyond-usable", Severity: finding.Error, Why: "the kernel cuts the partition or leaves it out"}
)

// Catalogue lists them.
func Catalogue() []finding.Entry {
	return []finding.Entry{
		Overlap, Beyond,
	}
}
