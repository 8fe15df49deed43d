package probe

import (
	"fundus/core/block"
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
