package probe

import (
	"fmt"
	"strings"
	"unicode/utf16"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/extent"
	"fundus/core/fs"
)

// UDF (ECMA-167 and the UDF specification 2.60): recognised by its sequence of
// volume structures, read through the anchor at block 256. Offsets in bytes.
//
// Recognition and reading stand on different feet: the sequence at 32 KiB says that there
// is a UDF, in steps of 2048 bytes whatever the block is; where the block size is not said,
// it is the one under which the anchor at block 256 sums up.
const (
	udfAt      = 32 << 10
	udfStep    = 2048
	udfAnchor  = 256
	udfTag     = 0  // u16 in every descriptor; 4 bytes on, the sum of the others
	udfMainLen = 16 // u32 in the anchor; the place behind it
	udfSet     = 72 // primary descriptor: 128 bytes
	udfVolume  = 84 // logical volume descriptor: 128 bytes
	udfBlock   = 212
	tagPrimary = 1
	tagAnchor  = 2
	tagLogical = 6
	tagEnd     = 8
)

// UDF recognises UDF on blocks of any size.
func UDF(dev block.Device) (*fs.Content, error) {
	at, version, err := udfSequence(dev)
	if err != nil || at < 0 {
		return nil, err
	}
	c := found("udf", fs.FileSystem, at+1, 5)
	c.Version, c.Beside = version, true
	c.Signatures = append(c.Signatures, extent.Span{Start: udfAt + 1, Count: 5})
	for _, size := range []int64{512, 1024, 2048, 4096} {
		anchor, err := read(dev, udfAnchor*size, 512, le)
		if err != nil {
			return nil, err
		}
		if descriptor(anchor) != tagAnchor {
			continue
		}
		return c, udfVolumes(dev, c, int64(anchor.u32(udfMainLen+4)), int64(anchor.u32(udfMainLen)), size)
	}
	return damaged(c, "there is no anchor at block 256"), nil
}

// udfSequence finds "NSR02" or "NSR03" behind "BEA01"; -1 where there is none.
func udfSequence(dev block.Device) (at int64, version string, err error) {
	begun := false
	for i := range int64(16) {
		l, err := read(dev, udfAt+i*udfStep, 8, le)
		if err != nil {
			return -1, "", err
		}
		switch {
		case l.has(1, "BEA01"):
			begun = true
		case begun && l.has(1, "NSR02"):
			return udfAt + i*udfStep, "1.02 to 1.50", nil
		case begun && l.has(1, "NSR03"):
			return udfAt + i*udfStep, "2.00 or later", nil
		// A disc for old and new readers has ISO 9660's descriptors first; anything else in
		// front of BEA01 ends the sequence.
		case !l.has(1, "CD001") && !begun:
			return -1, "", nil
		}
	}
	return -1, "", nil
}

// descriptor is the tag of a descriptor whose tag sums up; else 0.
func descriptor(l look) uint16 {
	sum := uint8(0)
	for i, b := range l.raw(0, 16) {
		if i != 4 {
			sum += b
		}
	}
	if sum != l.u8(4) {
		return 0
	}
	return l.u16(udfTag)
}

func udfVolumes(dev block.Device, c *fs.Content, start, length, size int64) error {
	// The length is the disc's word: a wrong one must not read for ever.
	for i := int64(0); i < min(length/size, 32); i++ {
		l, err := read(dev, (start+i)*size, 512, le)
		if err != nil {
			return err
		}
		switch descriptor(l) {
		case tagPrimary:
			c.UUID = udfIdentifier(l.raw(udfSet, 128))
		case tagLogical:
			c.Label = dstring(l.raw(udfVolume, 128))
			fact(c, "shape", "blocks of %d bytes", l.u32(udfBlock))
		case tagEnd, 0:
			return nil
		}
	}
	return nil
}

// dstring decodes a text whose first byte says how many bits a character has
// and whose last byte how long it is.
func dstring(b []byte) string {
	n := int(b[len(b)-1])
	if n < 1 || n >= len(b) {
		return ""
	}
	text := b[1:n]
	if b[0] != 16 {
		var out strings.Builder
		for _, ch := range text {
			out.WriteRune(rune(ch))
		}
		return out.String()
	}
	var units []uint16
	for i := 0; i+1 < len(text); i += 2 {
		units = append(units, be.Uint16(text[i:]))
	}
	return string(utf16.Decode(units))
}

// udfIdentifier is how Linux names the volume set: its first 16 characters where
// they are hexadecimal, else as many of them as are, and the bytes of the next.
func udfIdentifier(b []byte) string {
	text := []byte(dstring(b))
	if len(text) < 8 {
		return ""
	}
	hex := func(c byte) bool { return strings.IndexByte("0123456789abcdefABCDEF", c) >= 0 }
	n := 0
	for n < 16 && n < len(text) && hex(text[n]) {
		n++
	}
	switch {
	case n == 16:
		return strings.ToLower(string(text[:16]))
	case n >= 8 && len(text) >= 12:
		return strings.ToLower(string(text[:8])) + fmt.Sprintf("%02x%02x%02x%02x", text[8], text[9], text[10], text[11])
	}
	return fmt.Sprintf("%x", text[:8])
}

// UDFFields are the fields of the anchor at sector 256.
func UDFFields(dev block.Device) ([]field.Structure, error) {
	at := int64(udfAnchor) * udfStep
	if l, err := read(dev, udfAnchor*dev.Geometry().Logical, 16, le); err == nil && l.u16(udfTag) == tagAnchor {
		at = udfAnchor * dev.Geometry().Logical
	}
	return structure(dev, "UDF anchor", at, le, []field.Spec{
		field.Number(2, "kind of descriptor"),
		field.Number(2, "version"),
		field.Number(1, "sum of the tag"),
		field.Bytes(1, "reserved"),
		field.Number(2, "serial number"),
		field.Hex(2, "checksum"),
		field.Number(2, "bytes that it covers"),
		field.Number(4, "sector that it is in"),
		field.Number(4, "bytes of the main sequence"),
		field.Number(4, "sector of the main sequence"),
		field.Number(4, "bytes of the reserve sequence"),
		field.Number(4, "sector of the reserve sequence"),
	})
}
