package probe

import (
	"hash/crc32"
	"math"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/extent"
	"fundus/core/fs"
)

// The superblock of btrfs (include/uapi/linux/btrfs_tree.h, struct
// btrfs_super_block, of Linux 6.1), little-endian, offsets in bytes.
//
// The first superblock lies at 64 KiB, behind everything that a boot loader may put before
// it, and has copies at 64 MiB and 256 GiB. A file system on several devices has a
// superblock on each of them: the same but for the item of the device itself, which is why
// the size of this device is read from there and not from the total.
const (
	btrfsAt         = 64 << 10
	btrfsSize       = 4096
	btrfsMagic      = "_BHRfS_M"
	btrfsFSID       = 32
	btrfsPlace      = 48 // of this copy, bytes
	btrfsMagicAt    = 64
	btrfsGeneration = 72
	btrfsTotal      = 112 // bytes of all devices
	btrfsUsed       = 120
	btrfsDevices    = 136
	btrfsSector     = 144
	btrfsNode       = 148
	btrfsLogRoot    = 96
	btrfsSumKind    = 196 // u16, 0 is CRC-32C
	btrfsDevID      = 201
	btrfsDevTotal   = 209 // bytes of this device
	btrfsDevUUID    = 267
	btrfsLabel      = 299 // 256 bytes
)

// Btrfs recognises btrfs, which may lie on several devices.
func Btrfs(dev block.Device) (*fs.Content, error) {
	l, err := read(dev, btrfsAt, btrfsSize, le)
	if err != nil || !l.has(btrfsMagicAt, btrfsMagic) {
		return nil, err
	}
	c := found("btrfs", fs.FileSystem, btrfsAt+btrfsMagicAt, len(btrfsMagic))
	c.Grows, c.Super = true, extent.Span{Start: btrfsAt, Count: 4096}
	// Of the four checksums CRC-32C is the one that is made unless another is asked for; a
	// superblock with one of the others is believed by its magic and the figures below.
	if l.u16(btrfsSumKind) == 0 {
		if sum := crc32.Checksum(l.b[32:], crc32.MakeTable(crc32.Castagnoli)); sum != l.u32(0) {
			return damaged(c, "CRC %#08x recorded, %#08x computed", l.u32(0), sum), nil
		}
	}
	sector := uint64(l.u32(btrfsSector))
	if !powerOfTwo(sector, 512, 65536) || l.u64(btrfsUsed) > l.u64(btrfsTotal) {
		return damaged(c, "sectors of %d bytes, %d of %d bytes used", sector, l.u64(btrfsUsed), l.u64(btrfsTotal)), nil
	}
	c.Label, c.UUID, c.State = l.text(btrfsLabel, 256), l.uuid(btrfsFSID), fs.Clean
	// A log tree is left by an fsync that no commit followed: the next mount replays it, as
	// others replay a journal.
	if l.u64(btrfsLogRoot) != 0 {
		c.State = fs.Recovery
	}
	sized(c, l.u64(btrfsDevTotal)/sector, sector)
	c.Size = times(l.u64(btrfsDevTotal), 1)
	c.Member.ID = l.uuid(btrfsDevUUID)
	// How full one of several devices is stands in trees that are not read here: the used
	// bytes of the superblock count all devices together.
	if devices := l.u64(btrfsDevices); devices == 1 {
		c.Used, c.HasUsage = times(l.u64(btrfsUsed), 1), true
	} else {
		c.Member.Index, c.Member.Of = int(min(l.u64(btrfsDevID), math.MaxInt32)), int(min(devices, math.MaxInt32))
	}
	fact(c, "space", "device %d of %d; %v of %v used on all of them", l.u64(btrfsDevID), l.u64(btrfsDevices),
		times(l.u64(btrfsUsed), 1), times(l.u64(btrfsTotal), 1))
	fact(c, "shape", "nodes of %d bytes; generation %d", l.u32(btrfsNode), l.u64(btrfsGeneration))
	return c, nil
}

// BtrfsCopies looks for the copies of the superblock, which the kernel writes at every commit
// where the device reaches as far (btrfs_sb_offset in fs/btrfs/disk-io.c), and reads only when
// it is told to. Each says where it lies, so that a copy is known from the first.
func BtrfsCopies(dev block.Device) (same, looked int, first bool) {
	l, err := read(dev, btrfsAt, btrfsSize, le)
	if err != nil || !l.has(btrfsMagicAt, btrfsMagic) {
		return 0, 0, false
	}
	for _, at := range []int64{64 << 20, 256 << 30} {
		if uint64(at)+btrfsSize >= l.u64(btrfsDevTotal) {
			break
		}
		looked++
		c, err := read(dev, at, btrfsSize, le)
		if err == nil && c.has(btrfsMagicAt, btrfsMagic) && c.u64(btrfsPlace) == uint64(at) && c.uuid(btrfsFSID) == l.uuid(btrfsFSID) {
			same++
		}
	}
	return same, looked, l.u64(btrfsPlace) == btrfsAt
}

// BtrfsFields are the fields of the first superblock.
func BtrfsFields(dev block.Device) ([]field.Structure, error) {
	return structure(dev, "btrfs superblock", btrfsAt, le, []field.Spec{
		field.Bytes(32, "checksum"),
		field.ID(16, "UUID of the file system"),
		field.Number(8, "place of this copy, in bytes"),
		field.Hex(8, "flags"),
		field.Text(8, "signature"),
		field.Number(8, "generation"),
		field.Number(8, "root of the tree of roots, in bytes"),
		field.Number(8, "root of the chunk tree, in bytes"),
		field.Number(8, "root of the log, in bytes"),
		field.Number(8, "unused"),
		field.Number(8, "bytes of all devices"),
		field.Number(8, "bytes in use"),
		field.Number(8, "object of the root directory"),
		field.Number(8, "devices"),
		field.Number(4, "sector, in bytes"),
		field.Number(4, "node, in bytes"),
		field.Number(4, "unused"),
		field.Number(4, "stripe, in bytes"),
		field.Number(4, "bytes of the system chunk array"),
		field.Number(8, "generation of the chunk tree"),
		field.Hex(8, "compatible features"),
		field.Hex(8, "read-only compatible features"),
		field.Hex(8, "incompatible features"),
		field.Words(2, "checksum algorithm", map[uint64]string{0: "CRC-32C", 1: "xxHash", 2: "SHA-256", 3: "BLAKE2"}),
		field.Number(1, "level of the tree of roots"),
		field.Number(1, "level of the chunk tree"),
		field.Number(1, "level of the log"),
		field.Number(8, "this device: number"),
		field.Number(8, "this device: bytes"),
		field.Number(8, "this device: bytes in use"),
		field.Number(4, "this device: alignment of I/O"),
		field.Number(4, "this device: width of I/O"),
		field.Number(4, "this device: sector"),
		field.Hex(8, "this device: type"),
		field.Number(8, "this device: generation"),
		field.Number(8, "this device: first byte"),
		field.Number(4, "this device: group"),
		field.Number(1, "this device: seek speed"),
		field.Number(1, "this device: bandwidth"),
		field.ID(16, "this device: UUID"),
		field.ID(16, "this device: file system"),
		field.Text(256, "label"),
		field.Number(8, "generation of the free-space cache"),
		field.Number(8, "generation of the UUID tree"),
		field.ID(16, "UUID in the metadata"),
	})
}
