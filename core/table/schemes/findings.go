package schemes

import (
	"slices"

	"fundus/core/finding"
	"fundus/core/table"
	"fundus/core/table/gpt"
	"fundus/core/table/mbr"
)

// Catalogue lists what is found in tables.
func Catalogue() []finding.Entry {
	return slices.Concat(table.Catalogue(), gpt.Catalogue(), mbr.Catalogue())
}
