package probe

import (
	"fmt"

	"fundus/core/block"
	"fundus/core/fs"
)

// LUKS 1 and 2 (their on-disk format specifications), big-endian, offsets in
// bytes.
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
	version := l.u16(luksVersion)
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
