package xfs

import (
	"encoding/binary"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/quantity"
)

// Values reads the settings back that an XFS of version 5 stores.
func Values(dev block.Device) ([]fs.Value, error) {
	c, err := recognise(dev)
	if err != nil || c == nil || c.State == fs.Damaged {
		return nil, err
	}
	b, err := block.ReadSized(dev, 0, readSize, readSize)
	if err != nil {
		return nil, err
	}
	be := binary.BigEndian
	u32 := func(at int) int64 { return int64(be.Uint32(b[at:])) }
	bs := quantity.Bytes(u32(blockSize))
	ro, incompat := u32(212), u32(216)
	o := Options{Block: bs, Sector: quantity.Bytes(be.Uint16(b[sectorSize:])), Inode: quantity.Bytes(be.Uint16(b[104:])), Groups: u32(groups),
		Log: quantity.Bytes(u32(96)) * bs, Unit: quantity.Bytes(u32(184)) * bs, Width: quantity.Bytes(u32(188)) * bs,
		InodeShare: 10 * int64(b[127]), Directory: bs << min(b[192], 16),
		FreeInodeTree: ro&roFreeInodes != 0, ReverseMap: ro&roReverse != 0, SharedBlocks: ro&roShared != 0, InodeCounts: ro&roInodeCounts != 0,
		SparseInodes: incompat&incompatSparse != 0, LateTimes: incompat&incompatLateTimes != 0, LargeExtentCounts: incompat&incompatWide != 0}
	if unit := u32(196); unit > 1 {
		o.LogUnit = quantity.Bytes(unit)
	}
	var out []fs.Value
	for _, v := range fs.Stored(options(), &o) {
		if !o.idle(v.Key) {
			out = append(out, v)
		}
	}
	return out, nil
}
