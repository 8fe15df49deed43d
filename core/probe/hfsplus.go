package probe

import (
	"crypto/md5"
	"fmt"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/fs"
)

// The volume header of HFS+ and HFSX (fs/hfsplus/hfsplus_raw.h of Linux 6.1),
// big-endian, offsets in bytes.
//
// A copy of the header lies in the last 1024 bytes but one sector. The name of the volume
// is that of its root folder, so that it must be looked up in the catalogue's tree.
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
//
// Eight random bytes were enough when the format was made; systems that name volumes by
// UUID hash them.
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

// HFSPlusFields are the fields of the volume header; times count from 1904.
func HFSPlusFields(dev block.Device) ([]field.Structure, error) {
	return structure(dev, "HFS+ volume header", hfsAt, be, []field.Spec{
		field.Text(2, "signature"),
		field.Number(2, "version"),
		field.Bits(4, "attributes", "", "", "", "", "", "", "", "", "unmounted", "spared blocks", "", "broken", "", "journalled"),
		field.Text(4, "last mounted by"),
		field.Number(4, "block of the journal's record"),
		field.Number(4, "made"),
		field.Number(4, "modified"),
		field.Number(4, "backed up"),
		field.Number(4, "checked"),
		field.Number(4, "files"),
		field.Number(4, "folders"),
		field.Number(4, "block, in bytes"),
		field.Number(4, "blocks"),
		field.Number(4, "free blocks"),
		field.Number(4, "next allocation"),
		field.Number(4, "clump of resources"),
		field.Number(4, "clump of data"),
		field.Number(4, "next catalog node"),
		field.Number(4, "writes"),
		field.Hex(8, "encodings"),
		field.Bytes(32, "finder's information"),
		field.Bytes(80, "fork of the allocation file"),
		field.Bytes(80, "fork of the extents file"),
		field.Bytes(80, "fork of the catalog"),
		field.Bytes(80, "fork of the attributes"),
		field.Bytes(80, "fork of the start file"),
	})
}
