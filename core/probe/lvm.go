package probe

import (
	"hash/crc32"
	"strings"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/fs"
)

// The label of a physical volume of Linux logical volumes, in one of the first
// four sectors of 512 bytes; little-endian, offsets in bytes. Its checksum is a
// CRC-32 that begins with a constant of its own and is not inverted.
//
// The label says in which sector it lies, so that a copy which was moved along with other
// data is not taken for one. Identifier and size are behind it; the names of groups and
// volumes stand in a text further in, which the volume's own reading is for.
const (
	pvMagic  = "LABELONE"
	pvSector = 8  // u64: the sector that it lies in
	pvSum    = 16 // u32, over the rest of the sector
	pvOffset = 20 // u32: where the header is
	pvKind   = 24 // "LVM2 001"
	pvSeed   = 0xF597A6CF
)

// PhysicalVolume recognises a physical volume.
func PhysicalVolume(dev block.Device) (*fs.Content, error) {
	for sector := range int64(4) {
		l, err := read(dev, sector*512, 512, le)
		if err != nil {
			return nil, err
		}
		if !l.has(0, pvMagic) || !l.has(pvKind, "LVM2 001") || l.u64(pvSector) != uint64(sector) {
			continue
		}
		c := found("physical volume", fs.Member, sector*512, len(pvMagic))
		c.Rank, c.Unread = fs.Holder, "a group of volumes"
		if sum := ^crc32.Update(^uint32(pvSeed), crc32.IEEETable, l.b[pvOffset:]); sum != l.u32(pvSum) {
			return damaged(c, "CRC %#08x recorded, %#08x computed", l.u32(pvSum), sum), nil
		}
		off := int(l.u32(pvOffset))
		if off > 512-40 {
			return damaged(c, "its header is at byte %d", off), nil
		}
		c.UUID = dashed(string(l.raw(off, 32)))
		c.Size = times(l.u64(off+32), 1)
		c.Sealed = c.Size > 0
		fact(c, "shape", "%d bytes (%v)", c.Size, c.Size)
		return c, nil
	}
	return nil, nil
}

// dashed writes 32 characters in groups of 6, 4, 4, 4, 4, 4 and 6.
func dashed(id string) string {
	var groups []string
	for _, n := range []int{6, 4, 4, 4, 4, 4, 6} {
		groups, id = append(groups, id[:n]), id[n:]
	}
	return strings.Join(groups, "-")
}

// PhysicalVolumeFields are the fields of the label in the second sector.
func PhysicalVolumeFields(dev block.Device) ([]field.Structure, error) {
	return structure(dev, "volume label", 512, le, []field.Spec{
		field.Text(8, "signature"),
		field.Number(8, "sector that it is in"),
		field.Hex(4, "checksum"),
		field.Number(4, "offset of the header"),
		field.Text(8, "kind"),
		field.Text(32, "UUID"),
		field.Number(8, "bytes of the device"),
	})
}
