package ext

import (
	"encoding/binary"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/quantity"
)

// Copies looks for the copies of the superblock in the first groups that have one.
// It gives how many say the same of size and UUID, at how many places it looked,
// and whether the superblock at byte 1024 is the first one, no copy itself.
//
// A disk that is searched for lost file systems has every copy as a candidate of its own:
// what tells them apart is that a copy knows the group that it stands in.
func Copies(dev block.Device) (same, looked int, first bool) {
	s, err := Read(dev)
	if err != nil {
		return 0, 0, false
	}
	if s.disk.GroupNumber != 0 {
		return 0, 0, false
	}
	const most = 3
	for _, at := range s.Backups() {
		if looked == most {
			break
		}
		looked++
		off, ok := quantity.Count(at).Times(s.BlockSize)
		if !ok {
			continue
		}
		b, err := block.ReadSized(dev, int64(off), superSize, superSize)
		var c super
		if err == nil && field.Decode(b, binary.LittleEndian, &c) == nil && c.UUID == s.disk.UUID && c.Magic == magicExt && c.BlocksLo == s.disk.BlocksLo {
			same++
		}
	}
	return same, looked, true
}
