package probe

import (
	"hash/crc32"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/fs"
)

// The superblock of NILFS2 (include/uapi/linux/nilfs2_ondisk.h of Linux 6.1) at
// byte 1024, with a copy in the last 4 KiB; little-endian, offsets in bytes.
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
		if n := int(l.u16(nilfsBytes)); !l.has(nilfsMagicAt, nilfsMagic) || n < 248 || n > nilfsEnd || nilfsChecksum(l, n) != l.u32(nilfsSum) || l.u32(nilfsLog) > 6 {
			continue
		}
		c := found("nilfs2", fs.FileSystem, at+nilfsMagicAt, len(nilfsMagic))
		if at == nilfsAt {
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
