package xfs

import (
	"encoding/binary"
	"fmt"
	"slices"

	"fundus/core/block"
	"fundus/core/block/field"
)

// Fields are those of the primary superblock, of the last record of the log, of the root
// directory's inode, and of the headers and the roots of the trees of each group.
func Fields(dev block.Device) ([]field.Structure, error) {
	be := binary.BigEndian
	s, err := field.ReadStructure(dev, "XFS superblock", 0, be, slices.Concat(superSpecs(), superTailSpecs()))
	out := []field.Structure{s}
	v, errOpen := open(dev)
	if err != nil || errOpen != nil { // then it is enough to see why
		return out, err
	}
	add := func(name string, at int64, specs []field.Spec) {
		if err != nil || at < 0 || at > dev.Size()-512 {
			return
		}
		if s, err = field.ReadStructure(dev, name, at, be, specs); err == nil {
			out = append(out, s)
		}
	}
	root, perBlock := be.Uint64(v.super[56:]), v.block/max(1, int64(be.Uint16(v.super[104:])))
	if perBlock > 0 && root < uint64(v.group/v.block*perBlock) {
		add(fmt.Sprintf("inode %d, the root directory", root), int64(root)*int64(be.Uint16(v.super[104:])), inodeSpecs())
	}
	if v.log > 0 {
		if end, errLog := v.readLog(); errLog == nil && end.record >= 0 {
			add("last record of the log", v.log+end.record*logSector, recordSpecs())
		}
	}
	sector := int64(len(v.super))
	for group := range v.count {
		base := group * v.group
		of := func(what string) string { return fmt.Sprintf("%s of group %d", what, group) }
		if group > 0 {
			add(of("copy of the superblock"), base, slices.Concat(superSpecs(), superTailSpecs()))
		}
		add(of("free space"), base+sector, freeSpecs())
		add(of("inodes"), base+2*sector, inodesSpecs())
		add(of("list of free blocks"), base+3*sector, listSpecs())
		for _, root := range v.roots(base) {
			add(of(root.name), base+root.block*v.block, treeSpecs())
		}
	}
	return out, err
}

// treeRoot is the block of a group in which a tree begins.
type treeRoot struct {
	name  string
	block int64
}

// roots reads from a group's headers where its trees begin; none where they cannot be read.
func (v *volume) roots(base int64) (list []treeRoot) {
	sector := int64(len(v.super))
	b, err := block.ReadSized(v.dev, base+sector, 2*sector, 2*mostSector)
	if err != nil {
		return nil
	}
	be, ro := binary.BigEndian, uint32(0)
	ro, _ = v.features()
	free, inodes := b[:sector], b[sector:]
	for _, t := range []struct {
		on   bool
		name string
		in   []byte
		at   int
	}{{true, "tree of free space by place", free, 16}, {true, "tree of free space by length", free, 20},
		{ro&roReverse != 0, "reverse map", free, 24}, {ro&roShared != 0, "tree of shared blocks", free, 88},
		{true, "tree of inodes", inodes, 20}, {ro&roFreeInodes != 0, "tree of free inodes", inodes, 328}} {
		if at := int64(be.Uint32(t.in[t.at:])); t.on && at > 0 && at < v.group/v.block {
			list = append(list, treeRoot{t.name, at})
		}
	}
	return list
}

func freeSpecs() []field.Spec {
	return []field.Spec{
		field.Text(4, "signature"), field.Number(4, "version"), field.Number(4, "group"), field.Number(4, "blocks"),
		field.Number(4, "root by place"), field.Number(4, "root by length"), field.Number(4, "root of the reverse map"),
		field.Number(4, "levels by place"), field.Number(4, "levels by length"), field.Number(4, "levels of the reverse map"),
		field.Number(4, "first of the list"), field.Number(4, "last of the list"), field.Number(4, "blocks on the list"),
		field.Number(4, "free blocks"), field.Number(4, "longest free run"),
		field.Number(4, "blocks of trees besides their roots"), field.ID(16, "UUID"),
		field.Number(4, "blocks of the reverse map"), field.Number(4, "blocks of the tree of shared ones"),
		field.Number(4, "root of the tree of shared ones"), field.Number(4, "levels of the tree of shared ones"),
		field.Bytes(112, "not used"), field.Hex(8, "last place in the log"), field.Hex(4, "checksum, little-endian"),
	}
}

func inodesSpecs() []field.Spec {
	return []field.Spec{
		field.Text(4, "signature"), field.Number(4, "version"), field.Number(4, "group"), field.Number(4, "blocks"),
		field.Number(4, "inodes"), field.Number(4, "root"), field.Number(4, "levels"), field.Number(4, "free inodes"),
		field.Hex(4, "newest inodes"), field.Hex(4, "not used"),
		field.Bytes(256, "inodes that are gone and still open"), field.ID(16, "UUID"),
		field.Hex(4, "checksum, little-endian"), field.Hex(4, "filler"),
		field.Hex(8, "last place in the log"), field.Number(4, "root of the free ones"),
		field.Number(4, "levels of the free ones"), field.Number(4, "blocks of the tree"), field.Number(4, "blocks of the free ones"),
	}
}

func listSpecs() []field.Spec {
	return []field.Spec{
		field.Text(4, "signature"), field.Number(4, "group"), field.ID(16, "UUID"),
		field.Hex(8, "last place in the log"), field.Hex(4, "checksum, little-endian"),
		field.Numbers(32, "first blocks of the list"),
	}
}

func treeSpecs() []field.Spec {
	return []field.Spec{
		field.Text(4, "signature"), field.Number(2, "level"), field.Number(2, "records"),
		field.Hex(4, "left neighbour"), field.Hex(4, "right neighbour"),
		field.Number(8, "place, in 512 bytes"), field.Hex(8, "last place in the log"), field.ID(16, "UUID"),
		field.Number(4, "group"), field.Hex(4, "checksum, little-endian"),
	}
}

func recordSpecs() []field.Spec {
	return []field.Spec{
		field.Hex(4, "signature"), field.Number(4, "round"), field.Number(4, "version"), field.Number(4, "bytes"),
		field.Hex(8, "place"), field.Hex(8, "oldest place that counts"),
		field.Hex(4, "checksum, little-endian"), field.Signed(4, "record before"), field.Number(4, "operations"),
		field.Bytes(256, "words that the round replaces"),
		field.Number(4, "format"), field.ID(16, "UUID"), field.Number(4, "bytes of a buffer"),
	}
}

func inodeSpecs() []field.Spec {
	return []field.Spec{
		field.Text(2, "signature"), field.Hex(2, "mode"), field.Number(1, "version"),
		field.Number(1, "form of the data"), field.Number(2, "links, old"),
		field.Number(4, "user"), field.Number(4, "group"), field.Number(4, "links"), field.Number(4, "project"),
		field.Number(8, "extents, wide"),
		field.Hex(8, "read"), field.Hex(8, "written"), field.Hex(8, "changed"), field.Number(8, "bytes"),
		field.Number(8, "blocks"), field.Number(4, "extent hint"), field.Number(4, "extents"), field.Number(2, "extents of attributes"),
		field.Number(1, "place of attributes"), field.Number(1, "form of attributes"), field.Hex(6, "not used"),
		field.Hex(2, "flags"), field.Hex(4, "generation"), field.Hex(4, "next that is gone"), field.Hex(4, "checksum, little-endian"),
		field.Number(8, "changes"), field.Hex(8, "last place in the log"), field.Hex(8, "further flags"),
		field.Number(4, "copy hint"), field.Bytes(12, "filler"), field.Hex(8, "made"), field.Number(8, "inode"), field.ID(16, "UUID"),
	}
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
		field.Bits(4, "incompatible features", "types in directories", "sparse inodes", "metadata UUID",
			"times beyond 2038", "needs repair", "large extent counts"),
		field.Hex(4, "incompatible features of the log"),
		field.Hex(4, "checksum, little-endian"),
		field.Number(4, "alignment of sparse inodes"),
		field.Signed(8, "inode of project quota"),
		field.Hex(8, "last place in the log"),
		field.ID(16, "UUID in the metadata"),
	}
}
