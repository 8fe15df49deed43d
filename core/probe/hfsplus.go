package probe

import (
	"crypto/md5"
	"fmt"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/fs"
)

// The volume header of HFS+ and HFSX (fs/hfsplus/hfsplus_raw.h of Linux 6.1),
// big-endian, offsets in bytes.
const (
	hfsAt         = 1024
	hfsVersion    = 2   // u16: 4, or 5 for HFSX
	hfsAttributes = 4   // u32
	hfsBlock      = 40  // u32
	hfsBlocks     = 44  // u32
	hfsFree       = 48  // u32
	hfsID         = 104 // 8 bytes of the finder's information
	hfsCatalog    = 272 // fork of the catalog: its first extent at 16
	hfsUnmounted  = 1 << 8
	hfsBroken     = 1 << 11
)

// HFSPlus recognises HFS+ and HFSX.
func HFSPlus(dev block.Device) (*fs.Content, error) {
	l, err := read(dev, hfsAt, 512, be)
	if err != nil || !(l.has(0, "H+\x00\x04") || l.has(0, "HX\x00\x05")) {
		return nil, err
	}
	c := found("hfsplus", fs.FileSystem, hfsAt, 4)
	c.Version = map[uint16]string{4: "HFS+", 5: "HFSX"}[l.u16(hfsVersion)]
	size := uint64(l.u32(hfsBlock))
	if !powerOfTwo(size, 512, 1<<20) || l.u32(hfsFree) > l.u32(hfsBlocks) {
		return damaged(c, "blocks of %d bytes, %d of %d free", size, l.u32(hfsFree), l.u32(hfsBlocks)), nil
	}
	c.UUID = hfsUUID(l.raw(hfsID, 8))
	switch attributes := l.u32(hfsAttributes); {
	case attributes&hfsBroken != 0:
		c.State = fs.Errors
	case attributes&hfsUnmounted != 0:
		c.State = fs.Clean
	default:
		c.State = fs.Recovery
	}
	sized(c, uint64(l.u32(hfsBlocks)), size)
	usedBlocks(c, uint64(l.u32(hfsFree)))
	c.Label, err = hfsName(dev, int64(times(uint64(l.u32(hfsCatalog+16)), size)))
	return c, err
}

// hfsUUID is the identifier that systems derive from the eight bytes: a UUID of
// version 3 (RFC 9562) in a name space of their own.
func hfsUUID(id []byte) string {
	space := uuid.MustParse("b3e20f39-f292-11d6-97a4-00306543ecac")
	if string(id) == string(make([]byte, 8)) {
		return ""
	}
	sum := md5.Sum(append(space[:], id...))
	sum[6], sum[8] = sum[6]&0x0F|0x30, sum[8]&0x3F|0x80
	return fmt.Sprint(uuid.UUID(sum))
}

// hfsName is the name of the root folder: the first record of the catalog's
// first leaf, whose parent is number 1.
func hfsName(dev block.Device, catalog int64) (string, error) {
	header, err := read(dev, catalog, 128, be)
	if err != nil || header.u8(8) != 1 { // a header node
		return "", err
	}
	size, leaf := int64(header.u16(32)), int64(header.u32(24))
	if size < 512 || size > 32768 {
		return "", nil
	}
	l, err := read(dev, catalog+leaf*size, 1024, be)
	if err != nil || l.u8(8) != 0xFF || l.u32(16) != 1 {
		return "", err
	}
	return l.wide(22, int(min(l.u16(20), 255)), be), nil
}
