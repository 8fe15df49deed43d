package probe

import (
	"fmt"
	"time"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/fs"
)

// The superblock of squashfs 4 (fs/squashfs/squashfs_fs.h of Linux 6.1),
// little-endian, offsets in bytes.
//
// It is written once and never changed, so that it is always clean and always full. Version
// 4 is little-endian; older ones had the byte order of their maker and are not mounted any
// more.
const (
	squashMagic  = "hsqs"
	squashInodes = 4  // u32
	squashMade   = 8  // u32
	squashBlock  = 12 // u32
	squashPacked = 20 // u16
	squashLog    = 22 // u16
	squashMajor  = 28 // u16, minor behind it
	squashUsed   = 40 // u64
)

// Squashfs recognises squashfs, which has neither label nor identifier.
func Squashfs(dev block.Device) (*fs.Content, error) {
	l, err := read(dev, 0, 96, le)
	if err != nil || !l.has(0, squashMagic) {
		return nil, err
	}
	c := found("squashfs", fs.FileSystem, 0, len(squashMagic))
	// The block size stands there twice, as a number and as an exponent: with a magic of
	// four letters this is all that tells a superblock from a text that begins alike.
	if size := uint64(l.u32(squashBlock)); !powerOfTwo(size, 4096, 1<<20) || power(uint64(l.u16(squashLog))) != size ||
		l.u16(squashMajor) > 4 {
		return damaged(c, "version %d, blocks of %d bytes, 2^%d", l.u16(squashMajor), size, l.u16(squashLog)), nil
	}
	c.Version = fmt.Sprintf("%d.%d", l.u16(squashMajor), l.u16(squashMajor+2))
	c.BlockSize, c.Size, c.State = times(uint64(l.u32(squashBlock)), 1), times(l.u64(squashUsed), 1), fs.Clean
	c.Used, c.HasUsage = c.Size, true
	packed := map[uint16]string{1: "zlib", 2: "lzma", 3: "lzo", 4: "xz", 5: "lz4", 6: "zstd"}[l.u16(squashPacked)]
	fact(c, "shape", "%d bytes (%v), packed with %s", c.Size, c.Size, packed)
	fact(c, "files", "%d inodes", l.u32(squashInodes))
	fact(c, "history", "made %s", time.Unix(int64(l.u32(squashMade)), 0).UTC().Format("2006-01-02 15:04:05 UTC"))
	return c, nil
}

// SquashfsFields are the fields of the superblock.
func SquashfsFields(dev block.Device) ([]field.Structure, error) {
	return structure(dev, "squashfs superblock", 0, le, []field.Spec{
		field.Text(4, "signature"),
		field.Number(4, "inodes"),
		field.Seconds(4, "made"),
		field.Number(4, "block, in bytes"),
		field.Number(4, "fragments"),
		field.Words(2, "compression", map[uint64]string{1: "zlib", 2: "LZMA", 3: "LZO", 4: "XZ", 5: "LZ4", 6: "zstd"}),
		field.Power(2, "block again, in bytes"),
		field.Hex(2, "flags"),
		field.Number(2, "owners listed"),
		field.Number(2, "version"),
		field.Number(2, "minor version"),
		field.Hex(8, "reference of the root inode"),
		field.Number(8, "bytes used"),
		field.Number(8, "place of the owners"),
		field.Hex(8, "place of extended attributes"),
		field.Number(8, "place of the inodes"),
		field.Number(8, "place of the directories"),
		field.Hex(8, "place of the fragments"),
		field.Hex(8, "place of the export table"),
	})
}
