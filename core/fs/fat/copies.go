package fat

import (
	"bytes"
	"encoding/binary"

	"fundus/core/block"
)

// Copies compares the beginnings of the allocation tables, which are the same.
func Copies(dev block.Device) (same, looked int, first bool) {
	b, err := block.ReadSized(dev, 0, 512, 512)
	if err != nil {
		return 0, 0, false
	}
	le := binary.LittleEndian
	perSector, reserved, length := int64(le.Uint16(b[11:])), int64(le.Uint16(b[14:])), int64(le.Uint16(b[22:]))
	if length == 0 {
		length = int64(le.Uint32(b[36:]))
	}
	at := reserved * perSector
	one, err := block.ReadSized(dev, at, 512, 512)
	if err != nil || one[0] != b[21] { // each begins with the kind of medium
		return 0, 1, true
	}
	two, err := block.ReadSized(dev, at+length*perSector, 512, 512)
	if err == nil && bytes.Equal(one, two) {
		same = 1
	}
	return same, 1, true
}
