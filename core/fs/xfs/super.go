package xfs

import (
	"encoding/binary"
	"hash/crc32"
)

// Bits of the superblock (fs/xfs/libxfs/xfs_format.h of Linux).
const (
	// versionBits are version 5 with long link counts, aligned inodes, the log's version 2,
	// extent flags, directories of version 2, attributes and further features.
	versionBits   = 0xB4A5 | 0x10
	versionStripe = 0x100
	versionSector = 0x800
	// furtherBits are lazy counters, attributes of version 2, wide project numbers and
	// checksums.
	furtherBits = 0x18A

	roFreeInodes, roReverse, roShared, roInodeCounts                                                      = 1, 2, 4, 8
	incompatTypes, incompatSparse, incompatMetaUUID, incompatLateTimes, incompatNeedsRepair, incompatWide = 1, 2, 4, 8, 0x10, 0x20
)

// seal writes the checksum of a structure into it: CRC-32C of all of it with the field zero,
// little-endian.
func seal(b []byte, at int) []byte {
	binary.LittleEndian.PutUint32(b[at:], 0)
	binary.LittleEndian.PutUint32(b[at:], crc32.Checksum(b, crc32.MakeTable(crc32.Castagnoli)))
	return b
}

// super is the superblock, which is the same in every group.
func (l *Layout) super() []byte {
	o, be := l.options, binary.BigEndian
	b := make([]byte, l.Sector)
	copy(b, magic)
	be.PutUint32(b[blockSize:], uint32(l.Block))
	be.PutUint64(b[blocks:], l.Blocks)
	copy(b[uuidAt:], o.UUID[:])
	// A block of the whole is written as its group, shifted by the blocks of a group rounded up
	// to a power of two, and its place in the group: with gaps between groups that are no power
	// of two.
	be.PutUint64(b[48:], l.LogGroup<<log2(l.GroupBlocks)|l.logAt)
	root := l.rootInode()
	for i, at := range []int{56, 64, 72} { // root, and two of a realtime part that there is not
		be.PutUint64(b[at:], root+uint64(i))
	}
	be.PutUint32(b[80:], uint32(max(1, 4096/l.Block))) // realtime extent, checked without any
	be.PutUint32(b[groupSize:], uint32(l.GroupBlocks))
	be.PutUint32(b[groups:], uint32(l.Groups))
	be.PutUint32(b[96:], uint32(l.LogBlocks))
	version := uint16(versionBits)
	if l.unit > 0 {
		version |= versionStripe
	}
	if l.Sector > 512 {
		version |= versionSector
		b[193] = log2(uint64(l.Sector))
		be.PutUint16(b[194:], uint16(l.Sector))
	}
	be.PutUint16(b[versionAt:], version)
	be.PutUint16(b[sectorSize:], uint16(l.Sector))
	be.PutUint16(b[104:], uint16(l.Inode))
	// How many inodes a block has.
	be.PutUint16(b[106:], uint16(l.Block/l.Inode))
	copy(b[labelAt:labelAt+labelSize], o.Label)
	// The powers of two of what stands above in full. The kernel shifts by these and refuses
	// where the two differ.
	for i, n := range []uint64{uint64(l.Block), uint64(l.Sector), uint64(l.Inode), uint64(l.Block / l.Inode), l.GroupBlocks} {
		b[120+i] = log2(n)
	}
	b[127] = byte(l.inodeShare())
	// Inodes that are made, those of them that are free, and free blocks: sums over all groups,
	// which the kernel corrects from the headers of the groups after a crash.
	be.PutUint64(b[128:], inodesMade)
	be.PutUint64(b[136:], inodesMade-inodesUsed)
	be.PutUint64(b[freeBlocks:], l.Free())
	for _, at := range []int{160, 168, 232} { // no inodes of quotas
		be.PutUint64(b[at:], none64)
	}
	be.PutUint32(b[180:], uint32(l.inodeAlign()))
	be.PutUint32(b[184:], uint32(l.unit))
	be.PutUint32(b[188:], uint32(l.width))
	b[192] = log2(uint64(choose(o.Directory, l.Block))) - log2(uint64(l.Block))
	be.PutUint32(b[196:], uint32(max(l.logUnit, 1)))
	// Twice: the second place is where a kernel of 64 bits once wrote them by mistake, and the
	// two have to agree.
	be.PutUint32(b[200:], furtherBits)
	be.PutUint32(b[204:], furtherBits)
	ro, incompat := l.features()
	be.PutUint32(b[212:], ro)
	be.PutUint32(b[216:], incompat)
	if o.SparseInodes {
		// Of what size the pieces of sparse chunks are: those of a cluster.
		be.PutUint32(b[228:], uint32(l.cluster()))
	}
	if o.MetaUUID != o.UUID {
		// Where the two differ, identifiers can be given anew without writing to every block.
		copy(b[248:], o.MetaUUID[:])
	}
	return seal(b, checksum)
}

// features are the bits of the superblock that what was asked for needs. A kernel that does not know
// one of the first kind mounts for reading alone, one of the second not at all.
func (l *Layout) features() (ro, incompat uint32) {
	o := l.options
	incompat = incompatTypes
	for _, f := range []struct {
		on   bool
		into *uint32
		bit  uint32
	}{{o.FreeInodeTree, &ro, roFreeInodes}, {o.ReverseMap, &ro, roReverse}, {o.SharedBlocks, &ro, roShared},
		{o.InodeCounts, &ro, roInodeCounts},
		{o.SparseInodes, &incompat, incompatSparse}, {o.MetaUUID != o.UUID, &incompat, incompatMetaUUID},
		{o.LateTimes, &incompat, incompatLateTimes}, {o.LargeExtentCounts, &incompat, incompatWide}} {
		if f.on {
			*f.into |= f.bit
		}
	}
	return ro, incompat
}

// inodeShare is the most of the space that inodes may take, in percent.
func (l *Layout) inodeShare() int64 {
	switch size := int64(l.Blocks) * int64(l.Block); {
	case l.options.InodeShare >= 0:
		return l.options.InodeShare
	// A share that grows with the size would be for more files than anybody has: large file
	// systems hold large files.
	case size <= 1<<40:
		return 25
	case size <= 50<<40:
		return 5
	}
	return 1
}

// rootInode is the number of the first inode, which is the root directory's.
func (l *Layout) rootInode() uint64 { return l.chunkAt * uint64(l.Block/l.Inode) }
