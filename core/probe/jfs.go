package probe

import (
	"fmt"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/fs"
)

// The superblock of JFS (fs/jfs/jfs_superblock.h of Linux 6.1), little-endian,
// offsets in bytes.
//
// The size is counted in blocks of the device, not of the file system: with blocks of 4 KiB
// on sectors of 512 bytes that is eight times as many.
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
	// A mounted JFS replays its log at the next mount; the other states are those of a
	// replay that failed, where only a check helps.
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

// JFSFields are the fields of the superblock.
func JFSFields(dev block.Device) ([]field.Structure, error) {
	return structure(dev, "JFS superblock", jfsAt, le, []field.Spec{
		field.Text(4, "signature"),
		field.Number(4, "version"),
		field.Number(8, "size, in device blocks"),
		field.Number(4, "block, in bytes"),
		field.Power(2, "block again, in bytes"),
		field.Power(2, "device blocks of a block"),
		field.Number(4, "device block, in bytes"),
		field.Power(2, "device block again, in bytes"),
		field.Bytes(2, "padding"),
		field.Number(4, "blocks of an allocation group"),
		field.Hex(4, "flags"),
		field.Words(4, "state", map[uint64]string{0: "clean", 1: "mounted", 2: "dirty", 3: "log redo failed"}),
		field.Number(4, "compression"),
		field.Bytes(8, "second inode table"),
		field.Bytes(8, "second inode map"),
		field.Hex(4, "device of the log"),
		field.Number(4, "serial number of the log"),
		field.Bytes(8, "extent of the log"),
		field.Bytes(8, "extent for checking"),
		field.Seconds(4, "updated"),
		field.Number(4, "updated, nanoseconds"),
		field.Number(4, "blocks of the log of checking"),
		field.Number(1, "newest log of checking"),
		field.Text(11, "old label"),
		field.Number(8, "size while growing"),
		field.Bytes(8, "extent for checking while growing"),
		field.Bytes(8, "extent of the log while growing"),
		field.ID(16, "UUID"),
		field.Text(16, "label"),
		field.ID(16, "UUID of the log"),
	})
}
