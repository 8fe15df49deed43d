package probe

import (
	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/fs"
)

// BitLocker recognises a BitLocker volume by the name in its boot sector.
func BitLocker(dev block.Device) (*fs.Content, error) {
	const magic = "-FVE-FS-"
	l, err := read(dev, 0, 512, le)
	if err != nil || !l.has(3, magic) {
		return nil, err
	}
	return found("BitLocker", fs.Encrypted, 3, len(magic)), nil
}

// BitLockerFields are the fields of the boot sector.
func BitLockerFields(dev block.Device) ([]field.Structure, error) {
	return structure(dev, "BitLocker boot sector", 0, le, []field.Spec{
		field.Bytes(3, "jump"),
		field.Text(8, "signature"),
		field.Number(2, "sector, in bytes"),
		field.Number(1, "sectors of a cluster"),
	})
}
