package mbr

import "fundus/core/finding"

// What is found in an MBR.
var (
	TableChain   = finding.Entry{ID: "table-chain-broken", Severity: finding.Error, Why: "partitions after the break are not found by anything"}
	TableLogical = finding.Entry{
		ID:       "table-logical-outside",
		Severity: finding.Error,
		Why:      "systems differ in whether they show such a partition, and an edit of the chain can lose it",
	}
)

// Catalogue lists them.
func Catalogue() []finding.Entry {
	return []finding.Entry{
		TableChain, TableLogical,
	}
}
