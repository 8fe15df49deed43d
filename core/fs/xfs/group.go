package xfs

import (
	"cmp"
	"encoding/binary"
	"slices"

	"fundus/core/extent"
)

// Values that stand for none.
const (
	none32 = 1<<32 - 1
	none64 = 1<<64 - 1
)

// Owners of blocks in the reverse map, which are no inodes: negative numbers.
const (
	// The format counts them down from -3: -1 and -2 are kept for "none" and "not known", and are
	// never written.
	ownerHeaders uint64 = none64 - 3 + 1
	ownerLog     uint64 = none64 - 4 + 1
	ownerGroup   uint64 = none64 - 5 + 1 // trees of free space and of the reverse map, and the list
	ownerInodes  uint64 = none64 - 6 + 1 // trees of inodes
	ownerChunks  uint64 = none64 - 7 + 1
	ownerShared  uint64 = none64 - 8 + 1
)

// group gives what a group begins with: four sectors of headers, and the block of each tree
// in the order in which they lie.
func (l *Layout) group(number uint64) (headers []byte, trees [][]byte) {
	headers = slices.Concat(l.super(), l.freeHeader(number), l.inodeHeader(number), l.listHeader(number))
	o, at := l.options, l.firstTree()
	add := func(magic string, records [][]byte) {
		trees = append(trees, l.leaf(number, at, magic, records))
		at++
	}
	// Both trees hold the same runs. The kernel takes a run by its length when it wants one of a
	// size, and by its place when it wants one beside a file's other blocks.
	free := l.free(number)
	add("AB3B", spans(free))
	slices.SortStableFunc(free, func(a, b extent.Span) int {
		return cmp.Or(cmp.Compare(a.Count, b.Count), cmp.Compare(a.Start, b.Start))
	})
	add("AB3C", spans(free))
	add("IAB3", l.chunks(number))
	if o.FreeInodeTree {
		// Of the chunks it lists those alone that have a free inode. The one chunk that a new
		// file system has is such a one.
		add("FIB3", l.chunks(number))
	}
	if o.ReverseMap {
		add("RMB3", l.owners(number))
	}
	if o.SharedBlocks {
		add("R3FC", nil)
	}
	return headers, trees
}

// spans are the records of a tree of free space: where one begins, and how many blocks it has.
func spans(list []extent.Span) (out [][]byte) {
	for _, s := range list {
		out = append(out, binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, uint32(s.Start)), uint32(s.Count)))
	}
	return out
}

// leaf is a tree of one block (struct xfs_btree_block of short form with checksums).
func (l *Layout) leaf(group, at uint64, magic string, records [][]byte) []byte {
	be, b := binary.BigEndian, make([]byte, l.Block)
	copy(b, magic)
	// At 4 the level stays 0: a leaf. A new group is divided into a handful of runs, whose
	// records fit the smallest block many times over.
	be.PutUint16(b[6:], uint16(len(records)))
	// The neighbours to the left and to the right on the same level: a root has none.
	be.PutUint32(b[8:], none32)
	be.PutUint32(b[12:], none32)
	be.PutUint64(b[16:], (group*l.GroupBlocks+at)*uint64(l.Block/512)) // in units of 512 bytes, whatever the sector
	copy(b[32:], l.options.MetaUUID[:])
	be.PutUint32(b[48:], uint32(group))
	copy(b[56:], slices.Concat(records...))
	return seal(b, 52)
}

// chunks are the records of the trees of inodes: 64 of them, in group 0.
func (l *Layout) chunks(group uint64) [][]byte {
	if group != 0 {
		return nil
	}
	be, b := binary.BigEndian, make([]byte, 16)
	be.PutUint32(b, uint32(l.rootInode()))
	// At 4 is a map of what of the chunk is not there (none of it), and behind it the number of
	// inodes that are. Without the feature the count of free ones takes all four bytes, so that
	// only its last one is not zero.
	if l.options.SparseInodes {
		b[6] = inodesMade
	}
	b[7] = inodesMade - inodesUsed
	// A bit for each inode, the first in the lowest: set where it is free.
	be.PutUint64(b[8:], none64-(1<<inodesUsed-1))
	return [][]byte{b}
}

// owned is a record of the reverse map.
type owned struct {
	extent.Span
	owner uint64
}

// owners are the records of the reverse map: what has which owner. Neighbours of one owner
// are one record.
func (l *Layout) owners(group uint64) (out [][]byte) {
	o, first := l.options, l.firstTree()
	// In the order in which the roots lie, see [Layout.group]; the kernel compares each of these
	// owners with what it meets when it frees blocks, and stops on one that differs.
	list := []owned{{extent.Span{Count: first}, ownerHeaders}, {extent.Span{Start: first, Count: 2}, ownerGroup}}
	at := first + 2
	next := func(n, owner uint64) {
		list = append(list, owned{extent.Span{Start: at, Count: n}, owner})
		at += n
	}
	inodes := uint64(1)
	if o.FreeInodeTree {
		inodes++
	}
	next(inodes, ownerInodes)
	next(1, ownerGroup) // this tree itself
	if o.SharedBlocks {
		next(1, ownerShared)
	}
	list = append(list, owned{extent.Span{Start: l.listAt(group), Count: l.list}, ownerGroup})
	if group == l.LogGroup {
		list = append(list, owned{extent.Span{Start: l.logAt, Count: l.LogBlocks}, ownerLog})
	}
	if group == 0 {
		list = append(list, owned{extent.Span{Start: l.chunkAt, Count: l.chunk}, ownerChunks})
	}
	slices.SortFunc(list, func(a, b owned) int { return cmp.Compare(a.Start, b.Start) })
	var merged []owned
	for _, r := range list {
		if last := len(merged) - 1; last >= 0 && merged[last].owner == r.owner && merged[last].End() == r.Start {
			merged[last].Count += r.Count
			continue
		}
		merged = append(merged, r)
	}
	for _, r := range merged {
		// Behind the owner stands where in a file the blocks belong: 0 for what is no file.
		b := spans([]extent.Span{r.Span})[0]
		out = append(out, binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint64(b, r.owner), 0))
	}
	return out
}

// freeHeader is the header of a group's free space (struct xfs_agf).
func (l *Layout) freeHeader(group uint64) []byte {
	o, b := l.options, make([]byte, l.Sector)
	var sum, longest uint64
	for _, s := range l.free(group) {
		sum, longest = sum+s.Count, max(longest, s.Count)
	}
	first := l.firstTree()
	copy(b, "XAGF")
	// The version of the header, its group, the blocks of that group, and the roots of the trees
	// by place and by length.
	put32(b, 4, 1, group, l.sizeOf(group), first, first+1)
	// How many levels each of the two has.
	put32(b, 28, 1, 1)
	at := first + 3
	if o.FreeInodeTree {
		at++
	}
	if o.ReverseMap {
		// Root, levels, and at 80 how many blocks the tree takes: a new one takes its root alone.
		put32(b, 24, at)
		put32(b, 36, 1)
		put32(b, 80, 1)
		at++
	}
	// The list of free blocks is a ring: its first and its last place that is filled, and how
	// many are. Then what is free, the longest run of it, and the blocks of the trees beside
	// their roots.
	put32(b, 40, 0, l.list-1, l.list, sum, longest, 0)
	copy(b[64:], o.MetaUUID[:])
	if o.SharedBlocks {
		put32(b, 84, 1, at, 1)
	}
	return seal(b, 216)
}

// inodeHeader is the header of a group's inodes (struct xfs_agi).
func (l *Layout) inodeHeader(group uint64) []byte {
	o, b := l.options, make([]byte, l.Sector)
	root, count, free, newest := l.firstTree()+2, uint64(0), uint64(0), uint64(none32)
	if group == 0 {
		count, free, newest = inodesMade, inodesMade-inodesUsed, l.rootInode()
	}
	copy(b, "XAGI")
	// Version, group, its blocks; inodes made, the root of their tree and its levels, free ones,
	// the chunk made last, and the directory that the next one would lie beside, a field that no
	// kernel of today reads.
	put32(b, 4, 1, group, l.sizeOf(group), count, root, 1, free, newest, none32)
	for i := range 64 { // no list of inodes that are gone
		put32(b, 40+4*i, none32)
	}
	copy(b[296:], o.MetaUUID[:])
	if o.FreeInodeTree {
		// Root and levels of the tree of chunks with free inodes.
		put32(b, 328, root+1, 1)
	}
	if o.InodeCounts {
		// How many blocks each of the two trees takes, so that a mount need not walk them.
		put32(b, 336, 1, 1)
	}
	return seal(b, 312)
}

// listHeader is the list of free blocks that the trees of a group may take (struct xfs_agfl).
func (l *Layout) listHeader(group uint64) []byte {
	b := make([]byte, l.Sector)
	copy(b, "XAFL")
	put32(b, 4, group)
	copy(b[8:], l.options.MetaUUID[:])
	// As many places as the sector has. A tree that has to be divided while blocks are being
	// freed takes its blocks from here, since it cannot ask itself for them then.
	for i, at := uint64(0), 36; at+4 <= len(b); i, at = i+1, at+4 {
		if i < l.list {
			put32(b, at, l.listAt(group)+i)
		} else {
			put32(b, at, none32)
		}
	}
	return seal(b, 32)
}

// put32 writes numbers of four bytes, one behind the other.
func put32(b []byte, at int, list ...uint64) {
	for i, n := range list {
		binary.BigEndian.PutUint32(b[at+4*i:], uint32(n))
	}
}
