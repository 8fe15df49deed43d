package probe

import (
	"fmt"

	"fundus/core/block"
	"fundus/core/fs"
)

// The superblock of JFS (fs/jfs/jfs_superblock.h of Linux 6.1), little-endian,
// offsets in bytes.
const (
	jfsAt      = 32 << 10
	jfsMagic   = "JFS1"
	jfsVersion = 4  // u32
	jfsSize    = 8  // u64, device blocks
	jfsBlock   = 16 // u32
	jfsDevice  = 24 // u32: bytes of a device block
	jfsState   = 40 // u32
	jfsUUID    = 136
	jfsLabel   = 152 // 16 bytes
)

// JFS recognises JFS.
func JFS(dev block.Device) (*fs.Content, error) {
	l, err := read(dev, jfsAt, 512, le)
	if err != nil || !l.has(0, jfsMagic) {
		return nil, err
	}
	c := found("jfs", fs.FileSystem, jfsAt, len(jfsMagic))
	block, device := uint64(l.u32(jfsBlock)), uint64(l.u32(jfsDevice))
	if !powerOfTwo(block, 512, 4096) || !powerOfTwo(device, 512, 4096) {
		return damaged(c, "blocks of %d bytes, of the device %d", block, device), nil
	}
	c.Version, c.UUID, c.Label = fmt.Sprint(l.u32(jfsVersion)), l.uuid(jfsUUID), l.text(jfsLabel, 16)
	switch l.u32(jfsState) {
	case 0:
		c.State = fs.Clean
	case 1:
		c.State = fs.Recovery
	default:
		c.State = fs.Dirty
	}
	sized(c, uint64(times(l.u64(jfsSize), device))/block, block)
	return c, nil
}
