package probe

import (
	"fmt"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/fs"
)

// LUKS 1 and 2 (their on-disk format specifications), big-endian, offsets in
// bytes.
//
// Both versions begin alike: magic, version, and a UUID as text at the same place. A header
// that lies apart, on another device, leaves nothing here: such a device is random bytes to
// every probe, and is never called empty for that.
const (
	luksMagic   = "LUKS\xBA\xBE"
	luksVersion = 6 // u16
	luks1Cipher = 8 // 32 bytes, the mode behind it
	luks2Label  = 24
	luksUUID    = 168 // text of 40 bytes
)

// LUKS recognises an encrypted device.
func LUKS(dev block.Device) (*fs.Content, error) {
	l, err := read(dev, 0, 512, be)
	if err != nil || !l.has(0, luksMagic) {
		return nil, err
	}
	c := found("LUKS", fs.Encrypted, 0, len(luksMagic))
	c.Rank = fs.Holder
	version := l.u16(luksVersion)
	// What a later version means is not known, but that it is encrypted is: it keeps its
	// rank, and nobody offers to write there.
	if version != 1 && version != 2 {
		c.Unknown = []string{fmt.Sprintf("version %d", version)}
		return c, nil
	}
	c.Version, c.UUID = fmt.Sprint(version), l.text(luksUUID, 40)
	if version == 2 {
		c.Label = l.text(luks2Label, 48)
		return c, nil
	}
	fact(c, "cipher", "%s-%s", l.text(luks1Cipher, 32), l.text(luks1Cipher+32, 32))
	return c, nil
}

// LUKSFields are the fields of the header, of the version that it has.
func LUKSFields(dev block.Device) ([]field.Structure, error) {
	specs := []field.Spec{
		field.Text(6, "signature"),
		field.Number(2, "version"),
		field.Number(8, "size of header and metadata, in bytes"),
		field.Number(8, "sequence number"),
		field.Text(48, "label"),
		field.Text(32, "checksum algorithm"),
		field.Bytes(64, "salt"),
		field.Text(40, "UUID"),
		field.Text(48, "subsystem"),
		field.Number(8, "offset of this header, in bytes"),
		field.Bytes(184, "reserved"),
		field.Bytes(64, "checksum"),
	}
	l, err := read(dev, 0, 8, be)
	if err != nil {
		return nil, err
	}
	if l.u16(luksVersion) == 1 {
		specs = []field.Spec{
			field.Text(6, "signature"),
			field.Number(2, "version"),
			field.Text(32, "cipher"),
			field.Text(32, "mode of the cipher"),
			field.Text(32, "hash"),
			field.Number(4, "first sector of the data"),
			field.Number(4, "length of the key, in bytes"),
			field.Bytes(20, "digest of the key"),
			field.Bytes(32, "salt of the digest"),
			field.Number(4, "rounds of the digest"),
			field.Text(40, "UUID"),
		}
		for slot := range 8 {
			specs = append(specs, luks1Slot(slot)...)
		}
	}
	return structure(dev, "LUKS header", 0, be, specs)
}

func luks1Slot(slot int) []field.Spec {
	name := func(what string) string { return fmt.Sprintf("key slot %d: %s", slot, what) }
	return []field.Spec{
		field.Words(4, name("state"), map[uint64]string{0xDEAD: "not in use", 0xAC71F3: "in use"}), field.Number(4, name("rounds")),
		field.Bytes(32, name("salt")), field.Number(4, name("first sector")), field.Number(4, name("stripes")),
	}
}
