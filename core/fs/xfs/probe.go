// Package xfs recognises XFS.
//
// Source: fs/xfs/libxfs/xfs_format.h (struct xfs_dsb) of Linux 6.1; numbers
// are big-endian.
package xfs

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"strings"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/quantity"
)

// Offsets in the superblock, in bytes.
const (
	magic      = "XFSB"
	blockSize  = 4   // u32
	blocks     = 8   // u64
	uuidAt     = 32  // 16 bytes
	groupSize  = 84  // u32, in blocks
	groups     = 88  // u32
	versionAt  = 100 // u16, its low four bits
	sectorSize = 102 // u16
	labelAt    = 108 // 12 bytes
	inProgress = 126 // u8
	freeBlocks = 144 // u64
	readSize   = 512
)

// Probe recognises XFS by the superblock at byte 0; nil where there is none.
func Probe(dev block.Device) (*fs.Content, error) {
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
	c := &fs.Content{Kind: "xfs", Class: fs.FileSystem, State: fs.Clean, HasUsage: true,
		BlockSize:  quantity.Bytes(be.Uint32(b[blockSize:])),
		Signatures: []extent.Span{{Start: 0, Count: 4}}}
	label, _, _ := strings.Cut(string(b[labelAt:labelAt+12]), "\x00")
	c.Label = label
	if id := uuid.UUID(b[uuidAt : uuidAt+16]); id != uuid.Nil {
		c.UUID = id.String()
	}
	total, free := quantity.Count(be.Uint64(b[blocks:])), quantity.Count(be.Uint64(b[freeBlocks:]))
	size, ok := total.Times(c.BlockSize)
	used, okUsed := (total - min(free, total)).Times(c.BlockSize)
	if bs := c.BlockSize; !ok || !okUsed || bs < 512 || bs > 64<<10 || bs&(bs-1) != 0 || total == 0 || free > total || b[inProgress] != 0 {
		c.State = fs.Damaged
		c.HasUsage = false
		return c, nil
	}
	c.Size, c.Used = size, used
	c.Facts = []fs.Fact{
		{Name: "size", Value: fmt.Sprintf("%d blocks × %d bytes = %d bytes (%v)", total, c.BlockSize, size, size)},
		{Name: "version", Value: fmt.Sprint(be.Uint16(b[versionAt:]) & 15)},
		{Name: "groups", Value: fmt.Sprintf("%d of %d blocks", be.Uint32(b[groups:]), be.Uint32(b[groupSize:]))},
		{Name: "sector", Value: fmt.Sprintf("%d bytes", be.Uint16(b[sectorSize:]))},
	}
	return c, nil
}
