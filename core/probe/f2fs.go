package probe

import (
	"hash/crc32"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/fs"
)

// The superblock of F2FS (include/linux/f2fs_fs.h, struct f2fs_super_block, of
// Linux 6.1), little-endian, offsets in bytes.
//
// Two superblocks in the first two blocks of 4 KiB, each 1024 bytes in. The checksum came
// later than the format: an offset of zero means that there is none.
const (
	f2fsAt       = 1024
	f2fsMagic    = "\x10\x20\xF5\xF2"
	f2fsMajor    = 4  // u16, minor behind it
	f2fsLogBlock = 16 // u32
	f2fsSumAt    = 32 // u32: where the checksum lies, 0 for none
	f2fsBlocks   = 36 // u64
	f2fsSegments = 48 // u32
	f2fsUUID     = 108
	f2fsLabel    = 124 // 512 UTF-16 units
)

// F2FS recognises F2FS.
func F2FS(dev block.Device) (*fs.Content, error) {
	l, err := read(dev, f2fsAt, 3072, le)
	if err != nil || !l.has(0, f2fsMagic) {
		return nil, err
	}
	c := found("f2fs", fs.FileSystem, f2fsAt, len(f2fsMagic))
	c.Grows = true
	size := power(uint64(l.u32(f2fsLogBlock)))
	if !powerOfTwo(size, 4096, 65536) || l.u64(f2fsBlocks) == 0 {
		return damaged(c, "blocks of %d bytes", size), nil
	}
	if at := int(l.u32(f2fsSumAt)); at != 0 && at+4 <= len(l.b) {
		// The seed is the magic; the register is not inverted.
		if sum := ^crc32.Update(^uint32(0xF2F52010), crc32.IEEETable, l.b[:at]); sum != l.u32(at) {
			return damaged(c, "CRC %#08x recorded, %#08x computed", l.u32(at), sum), nil
		}
	}
	c.UUID, c.Label = l.uuid(f2fsUUID), l.wide(f2fsLabel, 512, le)
	sized(c, l.u64(f2fsBlocks), size)
	fact(c, "shape", "version %d.%d", l.u16(f2fsMajor), l.u16(f2fsMajor+2))
	fact(c, "shape", "%d segments", l.u32(f2fsSegments))
	return c, nil
}

// F2FSFields are the fields of the first superblock.
func F2FSFields(dev block.Device) ([]field.Structure, error) {
	return structure(dev, "F2FS superblock", f2fsAt, le, []field.Spec{
		field.Hex(4, "signature"),
		field.Number(2, "version"),
		field.Number(2, "minor version"),
		field.Power(4, "sector, in bytes"),
		field.Power(4, "sectors of a block"),
		field.Power(4, "block, in bytes"),
		field.Power(4, "blocks of a segment"),
		field.Number(4, "segments of a section"),
		field.Number(4, "sections of a zone"),
		field.Number(4, "offset of the checksum"),
		field.Number(8, "blocks"),
		field.Number(4, "sections"),
		field.Number(4, "segments"),
		field.Number(4, "segments of checkpoints"),
		field.Number(4, "segments of the segment table"),
		field.Number(4, "segments of the node table"),
		field.Number(4, "segments of summaries"),
		field.Number(4, "segments of the main area"),
		field.Number(4, "block of segment 0"),
		field.Number(4, "block of the checkpoints"),
		field.Number(4, "block of the segment table"),
		field.Number(4, "block of the node table"),
		field.Number(4, "block of the summaries"),
		field.Number(4, "block of the main area"),
		field.Number(4, "root inode"),
		field.Number(4, "inode of nodes"),
		field.Number(4, "inode of metadata"),
		field.ID(16, "UUID"),
		field.Wide(1024, "label"),
		field.Number(4, "extensions listed"),
	})
}
