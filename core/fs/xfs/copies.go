package xfs

import (
	"encoding/binary"

	"fundus/core/block"
)

// Copies looks for the superblocks of the next allocation groups, which say the
// same as the first. How a copy would differ from the first is not recorded, so
// that it always counts as the first.
func Copies(dev block.Device) (same, looked int, first bool) {
	b, err := block.ReadSized(dev, 0, readSize, readSize)
	if err != nil {
		return 0, 0, false
	}
	be := binary.BigEndian
	group := int64(be.Uint32(b[groupSize:])) * int64(be.Uint32(b[blockSize:]))
	// A disk may have hundreds of groups: three that agree say as much as all.
	const most = 3
	for i := int64(1); i < int64(min(be.Uint32(b[groups:]), most+1)); i++ {
		looked++
		c, err := block.ReadSized(dev, i*group, readSize, readSize)
		if err == nil && string(c[:4]) == magic && string(c[uuidAt:uuidAt+16]) == string(b[uuidAt:uuidAt+16]) &&
			string(c[blocks:blocks+8]) == string(b[blocks:blocks+8]) {
			same++
		}
	}
	return same, looked, true
}
