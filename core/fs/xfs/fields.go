package xfs

import (
	"encoding/binary"
	"slices"

	"fundus/core/block"
	"fundus/core/block/field"
)

// Fields are those of the primary superblock.
func Fields(dev block.Device) ([]field.Structure, error) {
	s, err := field.ReadStructure(dev, "XFS superblock", 0, binary.BigEndian, slices.Concat(superSpecs(), superTailSpecs()))
	return []field.Structure{s}, err
}

func superSpecs() []field.Spec {
	return []field.Spec{
		field.Text(4, "signature"),
		field.Number(4, "block, in bytes"),
		field.Number(8, "blocks"),
		field.Number(8, "realtime blocks"),
		field.Number(8, "realtime extents"),
		field.ID(16, "UUID"),
		field.Number(8, "first block of the log, 0 where it is outside"),
		field.Number(8, "root inode"),
		field.Number(8, "inode of the realtime bitmap"),
		field.Number(8, "inode of the realtime summary"),
		field.Number(4, "realtime extent, in blocks"),
		field.Number(4, "blocks of an allocation group"),
		field.Number(4, "allocation groups"),
		field.Number(4, "blocks of the realtime bitmap"),
		field.Number(4, "blocks of the log"),
		field.Hex(2, "version and features"),
		field.Number(2, "sector, in bytes"),
		field.Number(2, "inode, in bytes"),
		field.Number(2, "inodes of a block"),
		field.Text(12, "label"),
		field.Power(1, "block again, in bytes"),
		field.Power(1, "sector again, in bytes"),
		field.Power(1, "inode again, in bytes"),
		field.Power(1, "inodes of a block again"),
		field.Power(1, "blocks of a group, rounded up"),
		field.Power(1, "realtime extents"),
		field.Number(1, "being made"),
		field.Number(1, "most space for inodes, percent"),
		field.Number(8, "inodes"),
		field.Number(8, "free inodes"),
		field.Number(8, "free blocks"),
		field.Number(8, "free realtime extents"),
	}
}

func superTailSpecs() []field.Spec {
	return []field.Spec{
		field.Signed(8, "inode of user quota"),
		field.Signed(8, "inode of group quota"),
		field.Hex(2, "flags of quotas"),
		field.Hex(1, "flags"),
		field.Number(1, "shared version"),
		field.Number(4, "alignment of inodes, in blocks"),
		field.Number(4, "stripe unit, in blocks"),
		field.Number(4, "stripe width, in blocks"),
		field.Power(1, "blocks of a directory block"),
		field.Power(1, "sector of the log, in bytes"),
		field.Number(2, "sector of the log, in bytes"),
		field.Number(4, "stripe unit of the log, in bytes"),
		field.Hex(4, "further features"),
		field.Hex(4, "further features, old place"),
		field.Hex(4, "compatible features"),
		field.Bits(4, "read-only compatible features", "free-inode tree", "reverse map", "reference counts", "inode counts"),
		field.Bits(4, "incompatible features", "types in directories", "sparse inodes", "metadata UUID", "times beyond 2038", "needs repair", "large extent counts"),
		field.Hex(4, "incompatible features of the log"),
		field.Hex(4, "checksum, little-endian"),
		field.Number(4, "alignment of sparse inodes"),
		field.Signed(8, "inode of project quota"),
		field.Hex(8, "last place in the log"),
		field.ID(16, "UUID in the metadata"),
	}
}
