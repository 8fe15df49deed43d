package fat

import (
	"encoding/binary"
	"slices"

	"fundus/core/block"
	"fundus/core/block/field"
)

// Fields are those of the boot sector, and for FAT32 of the sector that counts
// free clusters.
func Fields(dev block.Device) ([]field.Structure, error) {
	b, err := block.ReadSized(dev, 0, 512, 512)
	if err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	if le.Uint16(b[tableSmall:]) != 0 {
		s, err := field.ReadStructure(dev, "FAT boot sector", 0, le, slices.Concat(bootSpecs(), volumeSpecs(448)))
		return []field.Structure{s}, err
	}
	s, err := field.ReadStructure(dev, "FAT32 boot sector", 0, le, slices.Concat(bootSpecs(), wideSpecs(), volumeSpecs(420)))
	if err != nil {
		return nil, err
	}
	at := int64(le.Uint16(b[infoSector:])) * int64(le.Uint16(b[bytesPerSector:]))
	info, err := field.ReadStructure(dev, "free-cluster sector", at, le, []field.Spec{
		field.Text(4, "first signature"),
		field.Bytes(480, "reserved"),
		field.Text(4, "second signature"),
		field.Signed(4, "free clusters, -1 where not known"),
		field.Signed(4, "next free cluster, -1 where not known"),
		field.Bytes(12, "reserved"),
		field.Hex(4, "third signature"),
	})
	return []field.Structure{s, info}, err
}

func bootSpecs() []field.Spec {
	return []field.Spec{
		field.Bytes(3, "jump"),
		field.Text(8, "made by"),
		field.Number(2, "sector, in bytes"),
		field.Number(1, "sectors of a cluster"),
		field.Number(2, "reserved sectors"),
		field.Number(1, "tables"),
		field.Number(2, "entries of the root directory"),
		field.Number(2, "sectors, where they are few"),
		field.Hex(1, "medium"),
		field.Number(2, "sectors of a table"),
		field.Number(2, "sectors of a track"),
		field.Number(2, "heads"),
		field.Number(4, "sectors before the volume"),
		field.Number(4, "sectors"),
	}
}

func wideSpecs() []field.Spec {
	return []field.Spec{
		field.Number(4, "sectors of a table"),
		field.Hex(2, "flags"),
		field.Number(2, "version"),
		field.Number(4, "cluster of the root directory"),
		field.Number(2, "sector that counts free clusters"),
		field.Number(2, "sector of the boot sector's copy"),
		field.Bytes(12, "reserved"),
	}
}

// volumeSpecs end the boot sector, with so many bytes of boot code.
func volumeSpecs(code int) []field.Spec {
	return []field.Spec{
		field.Hex(1, "drive"),
		field.Bits(1, "state", "dirty", "surface to be tested"),
		field.Hex(1, "extended signature"),
		field.Hex(4, "serial number"),
		field.Text(11, "label"),
		field.Text(8, "kind, not to be relied on"),
		field.Bytes(code, "boot code"),
		field.Hex(2, "signature"),
	}
}
