package ext

import (
	"encoding/binary"
	"math/bits"
	"slices"

	"fundus/core/block"
	"fundus/core/block/field"
)

// Fields are those of the primary superblock and of the first group's
// descriptor.
func Fields(dev block.Device) ([]field.Structure, error) {
	super, err := field.ReadStructure(dev, "ext superblock", superOffset, binary.LittleEndian, slices.Concat(superSpecs(), superTailSpecs()))
	if err != nil {
		return nil, err
	}
	s, err := Read(dev)
	if err != nil { // then it is enough to see why
		return []field.Structure{super}, nil
	}
	specs := descriptorSpecs()
	if s.Incompat&incompat64Bit == 0 {
		specs = specs[:12]
	}
	group, err := field.ReadStructure(dev, "descriptor of group 0", int64(s.FirstData+1)*int64(s.BlockSize), binary.LittleEndian, specs)
	return []field.Structure{super, group}, err
}

// superSpecs are the fields up to the end of what revision 1 had.
func superSpecs() []field.Spec {
	return []field.Spec{
		field.Number(4, "inodes"),
		field.Number(4, "blocks, low half"),
		field.Number(4, "reserved blocks, low half"),
		field.Number(4, "free blocks, low half"),
		field.Number(4, "free inodes"),
		field.Number(4, "first data block"),
		field.Shifted(4, "block, in bytes", 1024),
		field.Shifted(4, "cluster, in bytes", 1024),
		field.Number(4, "blocks of a group"),
		field.Number(4, "clusters of a group"),
		field.Number(4, "inodes of a group"),
		field.Seconds(4, "last mount"),
		field.Seconds(4, "last write"),
		field.Number(2, "mounts since the last check"),
		field.Signed(2, "mounts between checks"),
		field.Hex(2, "signature"),
		field.Bits(2, "state", "clean", "errors", "orphans being recovered"),
		field.Words(2, "on errors", map[uint64]string{1: "continue", 2: "read only", 3: "panic"}),
		field.Number(2, "minor revision"),
		field.Seconds(4, "last check"),
		field.Number(4, "seconds between checks"),
		field.Words(4, "made for", map[uint64]string{0: "Linux", 1: "Hurd", 2: "Masix", 3: "FreeBSD", 4: "Lites"}),
		field.Number(4, "revision"),
		field.Number(2, "user of the reserve"),
		field.Number(2, "group of the reserve"),
		field.Number(4, "first inode of files"),
		field.Number(2, "inode, in bytes"),
		field.Number(2, "group of this copy"),
		field.Bits(4, "compatible features", names(compatNames())...),
		field.Bits(4, "incompatible features", names(incompatNames())...),
		field.Bits(4, "read-only compatible features", names(roNames())...),
		field.ID(16, "UUID"),
		field.Text(16, "label"),
		field.Text(64, "last mounted at"),
		field.Hex(4, "compression"),
		field.Number(1, "blocks to allocate ahead"),
		field.Number(1, "blocks to allocate ahead for directories"),
		field.Number(2, "blocks kept for group descriptors"),
		field.ID(16, "UUID of the journal"),
		field.Number(4, "inode of the journal"),
		field.Hex(4, "device of the journal"),
		field.Number(4, "first orphan inode"),
		field.Bytes(16, "seed of the directory hash"),
		field.Words(1, "directory hash", map[uint64]string{0: "legacy", 1: "half MD4", 2: "TEA", 3: "legacy, unsigned", 4: "half MD4, unsigned", 5: "TEA, unsigned", 6: "SipHash"}),
		field.Number(1, "copy of the journal's inode"),
		field.Number(2, "group descriptor, in bytes"),
		field.Hex(4, "default mount options"),
		field.Number(4, "first meta block group"),
		field.Seconds(4, "made"),
		field.Numbers(68, "journal's block map and size"),
	}
}

// superTailSpecs are the fields that ext4 added.
func superTailSpecs() []field.Spec {
	return []field.Spec{
		field.Number(4, "blocks, high half"),
		field.Number(4, "reserved blocks, high half"),
		field.Number(4, "free blocks, high half"),
		field.Number(2, "least extra bytes of an inode"),
		field.Number(2, "wanted extra bytes of an inode"),
		field.Bits(4, "flags", "signed hash", "unsigned hash", "test"),
		field.Number(2, "stride of the array, in blocks"),
		field.Number(2, "seconds between multi-mount checks"),
		field.Number(8, "block of multi-mount protection"),
		field.Number(4, "stripe of the array, in blocks"),
		field.Power(1, "groups of a flexible group"),
		field.Words(1, "checksum", map[uint64]string{0: "none", 1: "CRC-32C"}),
		field.Number(1, "encryption"),
		field.Bytes(1, "reserved"),
		field.Number(8, "KiB written in its life"),
		field.Number(4, "inode of the snapshot"),
		field.Number(4, "snapshot"),
		field.Number(8, "blocks of the snapshot"),
		field.Number(4, "list of snapshots"),
		field.Number(4, "errors"),
		field.Seconds(4, "first error"),
		field.Number(4, "first error: inode"),
		field.Number(8, "first error: block"),
		field.Text(32, "first error: function"),
		field.Number(4, "first error: line"),
		field.Seconds(4, "last error"),
		field.Number(4, "last error: inode"),
		field.Number(4, "last error: line"),
		field.Number(8, "last error: block"),
		field.Text(32, "last error: function"),
		field.Text(64, "mount options"),
		field.Number(4, "inode of user quota"),
		field.Number(4, "inode of group quota"),
		field.Number(4, "overhead, in clusters"),
		field.Numbers(8, "groups with copies, where only two have them"),
		field.Bytes(4, "encryption algorithms"),
		field.Bytes(16, "salt of encryption"),
		field.Number(4, "inode of lost+found"),
		field.Number(4, "inode of project quota"),
		field.Hex(4, "seed of checksums"),
		field.Number(1, "last write, high byte"),
		field.Number(1, "last mount, high byte"),
		field.Number(1, "made, high byte"),
		field.Number(1, "last check, high byte"),
		field.Number(1, "first error, high byte"),
		field.Number(1, "last error, high byte"),
		field.Number(1, "first error: code"),
		field.Number(1, "last error: code"),
		field.Number(2, "encoding of names"),
		field.Hex(2, "flags of the encoding"),
		field.Number(4, "inode of the orphan file"),
		field.Bytes(376, "reserved"),
		field.Hex(4, "checksum of the superblock"),
	}
}

func descriptorSpecs() []field.Spec {
	return []field.Spec{
		field.Number(4, "block of the block bitmap"),
		field.Number(4, "block of the inode bitmap"),
		field.Number(4, "block of the inode table"),
		field.Number(2, "free blocks"),
		field.Number(2, "free inodes"),
		field.Number(2, "directories"),
		field.Bits(2, "flags", "inodes not initialised", "blocks not initialised", "inode table zeroed"),
		field.Number(4, "exclusion bitmap"),
		field.Hex(2, "checksum of the block bitmap"),
		field.Hex(2, "checksum of the inode bitmap"),
		field.Number(2, "inodes never used"),
		field.Hex(2, "checksum of the descriptor"),
		field.Number(4, "block bitmap, high half"),
		field.Number(4, "inode bitmap, high half"),
		field.Number(4, "inode table, high half"),
		field.Number(2, "free blocks, high half"),
		field.Number(2, "free inodes, high half"),
		field.Number(2, "directories, high half"),
		field.Number(2, "inodes never used, high half"),
		field.Number(4, "exclusion bitmap, high half"),
		field.Hex(2, "checksum of the block bitmap, high half"),
		field.Hex(2, "checksum of the inode bitmap, high half"),
		field.Bytes(4, "reserved"),
	}
}

// names lists feature names by their bits.
func names(list []featureName) []string {
	out := make([]string, 32)
	for _, f := range list {
		out[bits.TrailingZeros32(f.bit)] = f.name
	}
	return out
}
