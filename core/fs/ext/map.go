package ext

import (
	"encoding/binary"

	"fundus/core/extent"
)

// How an inode says where its blocks are (ifork.rst): 15 numbers, of which the last three
// lead to blocks of numbers, once, twice and three times over; or from ext4 on a tree of
// extents, whose root has room for four.
const (
	directBlocks = 12
	inodeExtents = 4
	extentMagic  = 0xF30A
	mapBytes     = 60 // of an inode
)

// mapBlock is a block of a map, to be written.
type mapBlock struct {
	at      uint64
	content []byte
}

// extents reports whether files are mapped by extents.
func (l *Layout) extents() bool { return l.options.Variant >= Ext4 }

// mapBlocks is how many blocks the journal's map takes beside its inode.
func (l *Layout) mapBlocks() (n uint64) {
	if l.extents() {
		if len(l.Journal) <= inodeExtents {
			return 0
		}
		each := l.extentsOfLeaf()
		return uint64((len(l.Journal) + each - 1) / each)
	}
	rest, each := l.JournalBlocks-min(l.JournalBlocks, directBlocks), uint64(l.BlockSize)/4
	// At each depth of its own: one block, and below it as many as are begun.
	for reach := each; rest > 0; reach *= each {
		here := min(rest, reach)
		for below := each; below <= reach; below *= each {
			n += (here + below - 1) / below
		}
		rest -= here
	}
	return n
}

// extentsOfLeaf is how many a block of extents has, with its checksum behind them; that stays
// free where there are no checksums.
func (l *Layout) extentsOfLeaf() int { return (int(l.BlockSize) - 12 - 4) / 12 }

// direct is the map of a few blocks that lie together.
func (l *Layout) direct(s extent.Span) []byte {
	if l.extents() {
		return extentRoot([]extent.Span{s})
	}
	b := make([]byte, mapBytes)
	for i := range s.Count {
		binary.LittleEndian.PutUint32(b[4*i:], uint32(s.Start+i))
	}
	return b
}

// journalMap is the journal's map in its inode, and the blocks of it beside. It is worked out once:
// each copy of the superblock has it.
func (w *maker) journalMap() (inInode []byte, beside []mapBlock) {
	if w.mapped == nil {
		w.mapped, w.beside = w.mapOfJournal()
	}
	return w.mapped, w.beside
}

func (w *maker) mapOfJournal() (inInode []byte, beside []mapBlock) {
	if !w.extents() {
		return w.numbers()
	}
	b, le := make([]byte, mapBytes), binary.LittleEndian
	if len(w.journalMaps) == 0 {
		copy(b, extentRoot(w.Journal))
		return b, nil
	}
	copy(b, extentHeader(len(w.journalMaps), inodeExtents, 1))
	rest, logical := w.Journal, uint64(0)
	for i, at := range w.journalMaps {
		index := b[12+12*i:]
		le.PutUint32(index, uint32(logical))
		le.PutUint32(index[4:], uint32(at))
		le.PutUint16(index[8:], uint16(at>>32))
		n := min(len(rest), w.extentsOfLeaf())
		beside = append(beside, mapBlock{at, w.leaf(journalInode, logical, rest[:n])})
		for _, s := range rest[:n] {
			logical += s.Count
		}
		rest = rest[n:]
	}
	return b, beside
}

// numbers maps the journal by the numbers of its blocks.
func (w *maker) numbers() (inInode []byte, beside []mapBlock) {
	var data []uint32
	for _, s := range w.Journal {
		for i := range s.Count {
			data = append(data, uint32(s.Start+i))
		}
	}
	le, each, maps := binary.LittleEndian, int(w.BlockSize)/4, w.journalMaps
	inInode = make([]byte, mapBytes)
	take := func() (n uint32) { n, data = data[0], data[1:]; return n }
	var node func(depth int) uint32
	node = func(depth int) uint32 {
		at, b := maps[0], make([]byte, w.BlockSize)
		maps = maps[1:]
		beside = append(beside, mapBlock{at, b})
		for i := 0; i < each && len(data) > 0; i++ {
			if depth == 1 {
				le.PutUint32(b[4*i:], take())
			} else {
				le.PutUint32(b[4*i:], node(depth-1))
			}
		}
		return uint32(at)
	}
	for i := 0; i < directBlocks && len(data) > 0; i++ {
		le.PutUint32(inInode[4*i:], take())
	}
	for depth := 1; len(data) > 0; depth++ {
		le.PutUint32(inInode[4*(directBlocks+depth-1):], node(depth))
	}
	return inInode, beside
}

// Extent tree nodes (ifork.rst): a header of 12 bytes, then entries of 12.
func extentHeader(entries, most, depth int) []byte {
	b, le := make([]byte, 12), binary.LittleEndian
	le.PutUint16(b[0:], extentMagic)
	le.PutUint16(b[2:], uint16(entries))
	le.PutUint16(b[4:], uint16(most))
	le.PutUint16(b[6:], uint16(depth))
	return b
}

func appendExtents(b []byte, logical uint64, spans []extent.Span) []byte {
	le := binary.LittleEndian
	for _, s := range spans {
		b = le.AppendUint32(b, uint32(logical))
		b = le.AppendUint16(b, uint16(s.Count)) // 32768 means that many, initialised
		b = le.AppendUint16(b, uint16(s.Start>>32))
		b = le.AppendUint32(b, uint32(s.Start))
		logical += s.Count
	}
	return b
}

// extentRoot maps at most four spans in the inode itself.
func extentRoot(spans []extent.Span) []byte {
	return appendExtents(extentHeader(len(spans), inodeExtents, 0), 0, spans)
}

// leaf is a block of extents of the inode, from the logical block on, with its checksum behind
// the last entry that would fit, not at the end of the block: a few bytes may be left
// between, which mean nothing.
func (w *maker) leaf(number uint32, logical uint64, spans []extent.Span) []byte {
	most := w.extentsOfLeaf()
	b := make([]byte, w.BlockSize)
	copy(b, appendExtents(extentHeader(len(spans), most, 0), logical, spans))
	if tail := 12 + 12*most; w.options.Checksums {
		binary.LittleEndian.PutUint32(b[tail:], crc(w.inodeSeed(number), b[:tail]))
	}
	return b
}
