package probe

import (
	"fmt"
	"strings"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/extent"
	"fundus/core/fs"
)

// Volume descriptors of ISO 9660 (ECMA-119), from sector 16 of 2048 bytes on.
// Numbers stand in both byte orders; the little-endian half comes first.
//
// The first 16 sectors belong to whoever starts from the disc: a disc image for a stick has
// a partition table or a whole boot loader there, and is both, a disc and a disk.
const (
	isoAt          = 32 << 10
	isoSector      = 2048
	isoMagic       = "CD001"
	isoPrimary     = 1
	isoSecond      = 2 // supplementary: Joliet, where its escape sequence says so
	isoTerminator  = 255
	isoVolume      = 40  // 32 characters
	isoBlocks      = 80  // u32
	isoEscape      = 88  // 32 bytes
	isoBlock       = 128 // u16
	isoCreated     = 813 // 17 bytes: 16 digits and an offset
	isoModified    = 830
	isoDescriptors = 16 // that are looked at
)

// ISO9660 recognises ISO 9660, with Joliet's name where there is one.
func ISO9660(dev block.Device) (*fs.Content, error) {
	var c *fs.Content
	for i := range int64(isoDescriptors) {
		l, err := read(dev, isoAt+i*isoSector, isoSector, le)
		if err != nil {
			return nil, err
		}
		if !l.has(1, isoMagic) || l.u8(0) == isoTerminator {
			break
		}
		// Only the first primary descriptor counts, as for Linux; a multi-session disc has
		// later ones, which a probe of the device does not see.
		switch kind := l.u8(0); {
		case kind == isoPrimary && c == nil:
			c = isoContent(l, isoAt+i*isoSector)
		case kind == isoSecond && c != nil && joliet(l):
			if name := strings.TrimRight(l.wide(isoVolume, 16, be), " "); name != "" && c.State != fs.Damaged {
				c.Label = name
			}
			c.Signatures = append(c.Signatures, extent.Span{Start: uint64(isoAt + i*isoSector + 1), Count: 5})
			fact(c, "Joliet", "names in UCS-2 as well")
		}
	}
	return c, nil
}

// A supplementary descriptor is Joliet's only with one of three escape sequences, for the
// three levels of UCS-2; without them it is another character set, whose names nobody
// decodes.
func joliet(l look) bool {
	return l.has(isoEscape, "%/") || l.has(isoEscape, "%/C") || l.has(isoEscape, "%/E")
}

func isoContent(l look, at int64) *fs.Content {
	c := found("iso9660", fs.FileSystem, at+1, len(isoMagic))
	size := uint64(l.u16(isoBlock))
	if !powerOfTwo(size, 512, 2048) {
		return damaged(c, "blocks of %d bytes", size)
	}
	c.Beside = true
	c.Label, c.Yields = strings.TrimRight(l.text(isoVolume, 32), " "), "udf"
	if c.UUID = isoDate(l, isoModified); c.UUID == "" {
		c.UUID = isoDate(l, isoCreated)
	}
	sized(c, uint64(l.u32(isoBlocks)), size)
	return c
}

// isoDate is the date that serves as identifier; empty where none is recorded.
//
// The format has no identifier. What systems use in its place is the date of the last
// change, to the hundredth of a second, and that of the making where the other is zeros.
func isoDate(l look, off int) string {
	d := string(l.raw(off, 16))
	if strings.Trim(d, "0\x00 ") == "" {
		return ""
	}
	return fmt.Sprintf("%s-%s-%s-%s-%s-%s-%s", d[0:4], d[4:6], d[6:8], d[8:10], d[10:12], d[12:14], d[14:16])
}

// ISO9660Fields are the fields of the primary volume descriptor.
func ISO9660Fields(dev block.Device) ([]field.Structure, error) {
	return structure(dev, "ISO 9660 primary volume descriptor", isoAt, le, []field.Spec{
		field.Number(1, "type"),
		field.Text(5, "signature"),
		field.Number(1, "version"),
		field.Bytes(1, "unused"),
		field.Text(32, "system"),
		field.Text(32, "volume"),
		field.Bytes(8, "unused"),
		field.Number(4, "blocks"),
		field.Bytes(4, "blocks, big-endian"),
		field.Bytes(32, "unused"),
		field.Number(2, "volumes of the set"),
		field.Bytes(2, "volumes of the set, big-endian"),
		field.Number(2, "number in the set"),
		field.Bytes(2, "number in the set, big-endian"),
		field.Number(2, "block, in bytes"),
		field.Bytes(2, "block, big-endian"),
		field.Number(4, "bytes of the path table"),
		field.Bytes(4, "bytes of the path table, big-endian"),
		field.Number(4, "block of the path table"),
		field.Number(4, "block of its copy"),
		field.Bytes(4, "block of the big-endian path table"),
		field.Bytes(4, "block of its copy"),
		field.Bytes(34, "record of the root directory"),
		field.Text(128, "volume set"),
		field.Text(128, "publisher"),
		field.Text(128, "preparer"),
		field.Text(128, "application"),
		field.Text(37, "file of the copyright"),
		field.Text(37, "file of the abstract"),
		field.Text(37, "file of the bibliography"),
		field.Text(17, "made"),
		field.Text(17, "modified"),
		field.Text(17, "expires"),
		field.Text(17, "effective"),
		field.Number(1, "version of the file structure"),
	})
}
