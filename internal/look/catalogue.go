package look

import (
	"slices"

	"fundus/core/boot"
	"fundus/core/finding"
	"fundus/core/table/schemes"
	"fundus/core/verify"
)

// Catalogue lists every kind of finding, family by family.
func Catalogue() []finding.Entry {
	return slices.Concat(schemes.Catalogue(), verify.Catalogue(), []finding.Entry{FstabEmptied, boot.Worse})
}
