package probe

import (
	"hash/crc32"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/extent"
	"fundus/core/fs"
)

// The superblock of NILFS2 (include/uapi/linux/nilfs2_ondisk.h of Linux 6.1) at
// byte 1024, with a copy in the last 4 KiB; little-endian, offsets in bytes.
//
// Two superblocks, at byte 1024 and in the last whole 4 KiB, are written in turn: after a
// power cut either may be the torn one, so that each is believed by its own checksum.
const (
	nilfsAt      = 1024
	nilfsMagicAt = 6
	nilfsMagic   = "\x34\x34"
	nilfsBytes   = 8  // u16 that the checksum covers
	nilfsSeed    = 12 // u32
	nilfsSum     = 16 // u32
	nilfsLog     = 20 // u32: blocks of 1024 shifted by this
	nilfsDevice  = 32 // u64, bytes
	nilfsFree    = 80 // u64, blocks
	nilfsState   = 116
	nilfsUUID    = 152
	nilfsLabel   = 168 // 80 bytes
	nilfsEnd     = 1024
)

// NILFS2 recognises NILFS2 by the first of its superblocks that sums up.
func NILFS2(dev block.Device) (*fs.Content, error) {
	backup := (dev.Size()>>12 - 1) << 12
	for _, at := range []int64{nilfsAt, backup} {
		l, err := read(dev, at, nilfsEnd, le)
		if err != nil {
			return nil, err
		}
		if n := int(l.u16(nilfsBytes)); !l.has(nilfsMagicAt, nilfsMagic) || n < 248 || n > nilfsEnd ||
			nilfsChecksum(l, n) != l.u32(nilfsSum) ||
			l.u32(nilfsLog) > 6 {
			continue
		}
		c := found("nilfs2", fs.FileSystem, at+nilfsMagicAt, len(nilfsMagic))
		if at == nilfsAt {
			// Whoever erases the first one alone is surprised by the second.
			c.Signatures = append(c.Signatures, extent.Span{Start: uint64(backup + nilfsMagicAt), Count: 2})
		}
		c.UUID, c.Label = l.uuid(nilfsUUID), l.text(nilfsLabel, 80)
		switch state := l.u16(nilfsState); {
		case state&2 != 0:
			c.State = fs.Errors
		case state&1 != 0:
			c.State = fs.Clean
		default:
			c.State = fs.Recovery
		}
		size := 1024 * power(uint64(l.u32(nilfsLog)))
		sized(c, l.u64(nilfsDevice)/size, size)
		usedBlocks(c, l.u64(nilfsFree))
		return c, nil
	}
	return nil, nil
}

// nilfsChecksum is a CRC-32 that begins with a seed, is not inverted, and takes
// its own field as zeros.
func nilfsChecksum(l look, n int) uint32 {
	b := l.raw(0, n)
	clear(b[nilfsSum : nilfsSum+4])
	return ^crc32.Update(^l.u32(nilfsSeed), crc32.IEEETable, b)
}

// NILFS2Fields are the fields of the first superblock.
func NILFS2Fields(dev block.Device) ([]field.Structure, error) {
	return structure(dev, "NILFS2 superblock", nilfsAt, le, []field.Spec{
		field.Number(4, "revision"),
		field.Number(2, "minor revision"),
		field.Hex(2, "signature"),
		field.Number(2, "bytes that the checksum covers"),
		field.Hex(2, "flags"),
		field.Hex(4, "seed of the checksum"),
		field.Hex(4, "checksum"),
		field.Shifted(4, "block, in bytes", 1024),
		field.Number(8, "segments"),
		field.Number(8, "bytes of the device"),
		field.Number(8, "first data block"),
		field.Number(4, "blocks of a segment"),
		field.Number(4, "share of segments kept, percent"),
		field.Number(8, "last checkpoint"),
		field.Number(8, "last written segment: block"),
		field.Number(8, "last written segment: sequence"),
		field.Number(8, "free blocks"),
		field.Seconds(8, "made"),
		field.Seconds(8, "mounted"),
		field.Seconds(8, "written"),
		field.Number(2, "mounts"),
		field.Number(2, "mounts between checks"),
		field.Bits(2, "state", "clean", "errors"),
		field.Number(2, "on errors"),
		field.Seconds(8, "last check"),
		field.Number(4, "seconds between checks"),
		field.Number(4, "made by system"),
		field.Number(2, "user of the reserve"),
		field.Number(2, "group of the reserve"),
		field.Number(4, "first free inode"),
		field.Number(2, "bytes of an inode"),
		field.Number(2, "bytes of an address entry"),
		field.Number(2, "bytes of a checkpoint"),
		field.Number(2, "bytes of a segment's use"),
		field.ID(16, "UUID"),
		field.Text(80, "label"),
		field.Number(4, "seconds between commits"),
		field.Number(4, "blocks of a commit"),
		field.Hex(8, "compatible features"),
		field.Hex(8, "read-only compatible features"),
		field.Hex(8, "incompatible features"),
	})
}
