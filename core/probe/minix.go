package probe

import (
	"encoding/binary"
	"fmt"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/fs"
)

// The superblock of minix (include/uapi/linux/minix_fs.h of Linux 6.1) at byte
// 1024, in the byte order of its writer; offsets in bytes.
//
// Sixteen bits of magic and no checksum: one sector in 13,000 of random bytes has one of
// these values. The bitmaps must be large enough for the inodes and the zones, which random
// bytes do not fulfil.
const (
	minixAt     = 1024
	minixInodes = 0  // u16; version 3: u32
	minixZones1 = 2  // u16
	minixMaps   = 4  // u16 twice: blocks of both bitmaps; version 3: at 6
	minixFirst  = 8  // u16: first data zone; version 3: at 10
	minixMagic  = 16 // u16; version 3: at 24
	minixState  = 18 // u16; bit 0: clean, bit 1: errors
	minixZones2 = 20 // u32, also of version 3
	minixBlock3 = 28 // u16
)

// Minix recognises versions 1, 2 and 3.
func Minix(dev block.Device) (*fs.Content, error) {
	for _, order := range []binary.ByteOrder{le, be} {
		l, err := read(dev, minixAt, 64, order)
		if err != nil {
			return nil, err
		}
		if c := minixContent(l, dev.Size()); c != nil {
			return c, nil
		}
	}
	return nil, nil
}

// minixContent believes the two bytes of magic only where the other figures fit
// each other.
func minixContent(l look, device int64) *fs.Content {
	version, magic := 0, minixMagic
	switch l.u16(minixMagic) {
	case 0x137F, 0x138F:
		version = 1
	case 0x2468, 0x2478:
		version = 2
	default:
		if l.u16(24) != 0x4D5A {
			return nil
		}
		version, magic = 3, 24
	}
	zones, inodes, size := uint64(l.u32(minixZones2)), uint64(l.u16(minixInodes)), uint64(1024)
	imap, zmap, first := uint64(l.u16(minixMaps)), uint64(l.u16(minixMaps+2)), uint64(l.u16(minixFirst))
	switch version {
	case 1:
		zones = uint64(l.u16(minixZones1))
	case 3:
		inodes, size = uint64(l.u32(minixInodes)), uint64(l.u16(minixBlock3))
		imap, zmap, first = uint64(l.u16(6)), uint64(l.u16(8)), uint64(l.u16(10))
	}
	if !powerOfTwo(size, 1024, 65536) || inodes == 0 || first >= zones || imap*size*8 < inodes || zmap*size*8 < zones-first ||
		times(zones, size) > times(uint64(device), 1) {
		return nil
	}
	c := found("minix", fs.FileSystem, int64(minixAt+magic), 2)
	c.Version = fmt.Sprint(version)
	if version < 3 {
		switch state := l.u16(minixState); {
		case state&2 != 0:
			c.State = fs.Errors
		case state&1 != 0:
			c.State = fs.Clean
		default:
			c.State = fs.Dirty
		}
	}
	sized(c, zones, size)
	fact(c, "files", "%d inodes", inodes)
	return c
}

// MinixFields are the fields of the superblock, of the version that it has.
func MinixFields(dev block.Device) ([]field.Structure, error) {
	l, err := read(dev, minixAt, 64, le)
	if err != nil {
		return nil, err
	}
	specs := []field.Spec{
		field.Number(2, "inodes"),
		field.Number(2, "zones"),
		field.Number(2, "blocks of the inode bitmap"),
		field.Number(2, "blocks of the zone bitmap"),
		field.Number(2, "first data zone"),
		field.Power(2, "blocks of a zone"),
		field.Number(4, "largest file, in bytes"),
		field.Hex(2, "signature"),
		field.Bits(2, "state", "clean", "errors"),
		field.Number(4, "zones, of version 2"),
	}
	if l.u16(24) == 0x4D5A {
		specs = []field.Spec{
			field.Number(4, "inodes"),
			field.Bytes(2, "padding"),
			field.Number(2, "blocks of the inode bitmap"),
			field.Number(2, "blocks of the zone bitmap"),
			field.Number(2, "first data zone"),
			field.Power(2, "blocks of a zone"),
			field.Bytes(2, "padding"),
			field.Number(4, "largest file, in bytes"),
			field.Number(4, "zones"),
			field.Hex(2, "signature"),
			field.Bytes(2, "padding"),
			field.Number(2, "block, in bytes"),
			field.Number(1, "version of the layout"),
		}
	}
	return structure(dev, "minix superblock", minixAt, le, specs)
}
