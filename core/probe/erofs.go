package probe

import (
	"hash/crc32"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/fs"
)

// The superblock of EROFS (fs/erofs/erofs_fs.h of Linux 6.1), little-endian,
// offsets in bytes.
const (
	erofsAt     = 1024
	erofsMagic  = "\xE2\xE1\xF5\xE0"
	erofsSum    = 4
	erofsCompat = 8  // u32; bit 0: there is a checksum
	erofsLog    = 12 // u8
	erofsInodes = 16 // u64
	erofsBlocks = 36 // u32
	erofsUUID   = 48
	erofsLabel  = 64 // 16 bytes
)

// EROFS recognises EROFS.
func EROFS(dev block.Device) (*fs.Content, error) {
	l, err := read(dev, erofsAt, 128, le)
	if err != nil || !l.has(0, erofsMagic) {
		return nil, err
	}
	c := found("erofs", fs.FileSystem, erofsAt, len(erofsMagic))
	size := power(uint64(l.u8(erofsLog)))
	if !powerOfTwo(size, 512, 65536) {
		return damaged(c, "blocks of 2^%d bytes", l.u8(erofsLog)), nil
	}
	// The checksum covers the rest of the first block, and is there only where a compatible
	// feature says so: images for small systems are made without.
	if size > erofsAt && l.u32(erofsCompat)&1 != 0 {
		whole, err := read(dev, erofsAt, int64(size)-erofsAt, le)
		if err != nil {
			return nil, err
		}
		if sum := erofsChecksum(whole.b); sum != l.u32(erofsSum) {
			return damaged(c, "CRC %#08x recorded, %#08x computed", l.u32(erofsSum), sum), nil
		}
	}
	c.UUID, c.Label, c.State = l.uuid(erofsUUID), l.text(erofsLabel, 16), fs.Clean
	sized(c, uint64(l.u32(erofsBlocks)), size)
	c.Used, c.HasUsage = c.Size, true
	fact(c, "files", "%d inodes", l.u64(erofsInodes))
	return c, nil
}

// erofsChecksum is a CRC-32C, not inverted, with its own field as zeros.
func erofsChecksum(b []byte) uint32 {
	table := crc32.MakeTable(crc32.Castagnoli)
	b = append([]byte(nil), b...)
	if len(b) >= erofsSum+4 {
		clear(b[erofsSum : erofsSum+4])
	}
	return ^crc32.Update(0, table, b)
}

// EROFSFields are the fields of the superblock.
func EROFSFields(dev block.Device) ([]field.Structure, error) {
	return structure(dev, "EROFS superblock", erofsAt, le, []field.Spec{
		field.Hex(4, "signature"),
		field.Hex(4, "checksum"),
		field.Hex(4, "compatible features"),
		field.Power(1, "block, in bytes"),
		field.Number(1, "further slots of 16 bytes"),
		field.Number(2, "root inode"),
		field.Number(8, "inodes"),
		field.Seconds(8, "built"),
		field.Number(4, "built, nanoseconds"),
		field.Number(4, "blocks"),
		field.Number(4, "block of the metadata"),
		field.Number(4, "block of shared attributes"),
		field.ID(16, "UUID"),
		field.Text(16, "label"),
		field.Hex(4, "incompatible features"),
		field.Hex(2, "compression algorithms"),
		field.Number(2, "further devices"),
		field.Number(2, "slot of the device table"),
		field.Number(1, "block of a directory, an exponent"),
		field.Bytes(5, "reserved"),
		field.Number(8, "packed inode"),
		field.Bytes(24, "reserved"),
	})
}
