package fs

import (
	"fundus/core/block"
	"fundus/core/quantity"
)

// mostStripe is the widest stripe that is believed: many bridges report a number of sectors
// that only fills its field.
const mostStripe = 64 * quantity.MiB

// Stripe gives the unit and the width of the stripe that a device reports, in bytes, for what
// begins at start on it; nothing where that is not believable: of an array the optimal size is
// a multiple of the minimal one, which is larger than a sector, and what does not begin on a
// unit has no use for it.
func Stripe(geo block.Geometry, start quantity.Bytes) (unit, width quantity.Bytes) {
	unit, width = quantity.Bytes(geo.MinIO), quantity.Bytes(geo.OptIO)
	if unit <= quantity.Bytes(geo.Physical) || width <= unit || width%unit != 0 || width > mostStripe || start%unit != 0 {
		return 0, 0
	}
	return unit, width
}
