// Package xfs recognises XFS of every version, and makes and changes that of version 5.
//
// It is divided into allocation groups of one size. Each begins with four sectors, behind
// which its trees have their roots, and then the blocks that they may grow into:
//
//	group 0  │ superblock │ free space │ inodes │ list of free blocks │ roots of the trees │
//	         │ blocks of that list │ the first 64 inodes │ data
//	group 1  │ copy of the superblock │ … │ roots │ list │ data
//	middle   │ … │ roots │ the log │ list │ data
//
// Every structure carries a checksum, an identifier, and its own place; changes stand in the
// log before they are carried out.
//
// Refused for writing: features that are not known, a log that has to be replayed, versions
// before 5. It is made larger by the kernel alone, while it is mounted, and never
// smaller: no structure says where its blocks are used from. Not made: a section for real time, a
// log on another device, quotas.
//
// Source: fs/xfs/libxfs/xfs_format.h (struct xfs_dsb and those behind it) of Linux 6.1;
// numbers are big-endian.
package xfs

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"strings"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/quantity"
)

// Offsets in the superblock, in bytes.
//
// Everything is big-endian but the checksum, which came with version 5. The superblock of
// each allocation group is a copy of this one; only this one is written to while the file
// system is mounted, and only at certain moments, so that its count of free blocks is the
// one of the last clean unmount.
const (
	magic      = "XFSB"
	blockSize  = 4   // u32
	blocks     = 8   // u64
	uuidAt     = 32  // 16 bytes
	groupSize  = 84  // u32, in blocks
	groups     = 88  // u32
	versionAt  = 100 // u16, its low four bits
	sectorSize = 102 // u16
	labelAt    = 108 // labelSize bytes
	labelSize  = 12
	inProgress = 126 // u8
	freeBlocks = 144 // u64
	checksum   = 224 // u32, little-endian: CRC-32C of the sector with this field zero
	readSize   = 512

	withChecksums = 5 // version of the format from which on there is one
	mostSector    = 32 << 10
)

// Probe recognises XFS by the superblock at byte 0; nil where there is none. Whether it was
// left in order its log says.
func Probe(dev block.Device) (*fs.Content, error) {
	c, err := recognise(dev)
	if err != nil || c == nil || c.State == fs.Damaged {
		return c, err
	}
	v, err := open(dev)
	if err != nil { // of another version, or shorter than it says
		return c, nil
	}
	c.Unknown, c.Features = v.unknown(), v.named()
	be := binary.BigEndian
	inodes, free := be.Uint64(v.super[128:]), be.Uint64(v.super[136:])
	log := "on another device"
	if v.log > 0 {
		end, err := v.readLog()
		switch log = fmt.Sprintf("%v at byte %d", quantity.Bytes(v.size), v.log); {
		case err != nil: // what was recognised is not lost to what could not be read behind it
			c.State = fs.NotRecorded
			log += fmt.Sprintf("; how it ended cannot be told: %v", err)
		case end.clean:
			log += fmt.Sprintf(", in round %d; it ended in order", end.cycle)
		default:
			c.State = fs.Recovery
			log += "; it has to be replayed, unless it is mounted"
		}
	}
	c.Facts = append(c.Facts,
		fs.Fact{
			Name: "files",
			Value: fmt.Sprintf("%d of %d inodes used, of %d bytes each; more are made as they are needed",
				inodes-min(free, inodes), inodes, be.Uint16(v.super[104:])),
		},
		fs.Fact{Name: "log", Value: log})
	if made, ok := v.made(); ok {
		c.Facts = append(c.Facts, fs.Fact{
			Name:  "history",
			Value: "made " + made.Format("2006-01-02 15:04:05 UTC") + "; XFS does not record when it was mounted",
		})
	}
	if v.meta() != v.uuid() {
		c.Facts = append(c.Facts, fs.Fact{Name: "within", Value: v.meta().String() + ": what the metadata carries"})
	}
	return c, nil
}

// recognise goes by the superblock alone, so that what lies behind it, and may be damaged, takes
// nothing away from what it says.
func recognise(dev block.Device) (*fs.Content, error) {
	if dev.Size() < readSize {
		return nil, nil
	}
	b, err := block.ReadSized(dev, 0, readSize, readSize)
	if err != nil {
		return nil, err
	}
	if !bytes.HasPrefix(b, []byte(magic)) {
		return nil, nil
	}
	be := binary.BigEndian
	c := &fs.Content{Kind: "xfs", Class: fs.FileSystem, State: fs.Clean, HasUsage: true, Grows: true, Super: extent.Span{Count: 512},
		BlockSize:  quantity.Bytes(be.Uint32(b[blockSize:])),
		Signatures: []extent.Span{{Start: 0, Count: 4}}}
	label, _, _ := strings.Cut(string(b[labelAt:labelAt+labelSize]), "\x00")
	c.Label = label
	if id := uuid.UUID(b[uuidAt : uuidAt+16]); id != uuid.Nil {
		c.UUID = id.String()
	}
	total, free := quantity.Count(be.Uint64(b[blocks:])), quantity.Count(be.Uint64(b[freeBlocks:]))
	size, ok := total.Times(c.BlockSize)
	used, okUsed := (total - min(free, total)).Times(c.BlockSize)
	// A file system whose making was cut short says so itself: the kernel refuses it.
	if bs := c.BlockSize; !ok || !okUsed || bs < 512 || bs > 64<<10 || bs&(bs-1) != 0 || total == 0 || free > total || b[inProgress] != 0 {
		c.State = fs.Damaged
		c.HasUsage = false
		return c, nil
	}
	if got, want, err := sum(dev, b); err != nil {
		return nil, err
	} else if got != want {
		c.State, c.HasUsage = fs.Damaged, false
		c.Facts = []fs.Fact{{Name: "damage", Value: fmt.Sprintf("superblock at byte 0: CRC %#08x recorded, %#08x computed", want, got)}}
		return c, nil
	}
	c.Size, c.Used, c.OldFormat = size, used, be.Uint16(b[versionAt:])&15 < withChecksums
	c.Facts = []fs.Fact{
		{Name: "space", Value: fmt.Sprintf("%v of %v free: %d of %d blocks, as recorded", size-used, size, min(free, total), total)},
		{
			Name: "shape",
			Value: fmt.Sprintf("version %d; %d blocks × %d bytes = %d bytes, in %d groups of %d blocks; sectors of %d bytes",
				be.Uint16(b[versionAt:])&15, total, c.BlockSize, size, be.Uint32(b[groups:]), be.Uint32(b[groupSize:]),
				be.Uint16(b[sectorSize:])),
		},
	}
	return c, nil
}

// sum is the checksum of the superblock's sector, computed and recorded; both are 0 where
// the format has none yet.
func sum(dev block.Device, b []byte) (got, want uint32, err error) {
	be := binary.BigEndian
	if be.Uint16(b[versionAt:])&15 < withChecksums {
		return 0, 0, nil
	}
	size := int64(be.Uint16(b[sectorSize:]))
	if size < readSize || size > mostSector || size&(size-1) != 0 {
		return 1, 0, nil // no sector has that size
	}
	sector, err := block.ReadSized(dev, 0, min(size, dev.Size()), mostSector)
	if err != nil {
		return 0, 0, err
	}
	want = binary.LittleEndian.Uint32(sector[checksum:])
	sector = bytes.Clone(sector) // what was read may be shared
	clear(sector[checksum : checksum+4])
	return crc32.Checksum(sector, crc32.MakeTable(crc32.Castagnoli)), want, nil
}
