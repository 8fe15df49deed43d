package ext

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"slices"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/extent"
)

// The resize inode holds the blocks that are kept for more descriptors: its double-indirect
// block points to each of them behind the first superblock, and each of those to its copies
// behind the others, in their order. One that becomes a block of descriptors leaves it; each
// that stays is told of the new copies. Without any it goes.
//
// Source: fs/ext4/resize.c of Linux, which refuses to grow where the map is another.

// resizeInode looks at it, and writes what becomes of it.
func (g *growing) resizeInode() error {
	if !g.was.resize {
		return nil
	}
	s, le := g.s, binary.LittleEndian
	n, err := s.inode(g.dev, resizeInode)
	if err != nil {
		return err
	}
	if err := g.inodeHolds(n); err != nil {
		return err
	}
	// The place behind the twelve direct blocks and the single list: the double one.
	at := uint64(le.Uint32(n.Block[13*4:]))
	if at == 0 || at >= uint64(s.Blocks) {
		return fmt.Errorf("inode %d, which keeps blocks for descriptors: block %d: %w", resizeInode, at, field.ErrRange)
	}
	double, err := g.readBlock(at)
	if err != nil {
		return err
	}
	pointers := uint64(s.BlockSize) / 4
	// Two limits of the older map: a list holds a block's worth of numbers, one a copy, and
	// numbers have 32 bits. What goes beyond either the kernel grows by meta groups.
	if far := s.groupStart(g.is.groups); uint64(len(g.copies)) > pointers || g.is.resize && far > 1<<32-1 {
		return fmt.Errorf("%w: the lists of what is kept have %d places, of 32 bits, for %d copies up to block %d",
			ErrGrow, pointers, len(g.copies), far)
	}
	old, _ := slices.BinarySearch(g.copies, g.was.groups)
	for i := range g.was.reserved {
		number := g.was.desc + i // of the descriptor block that this one may become
		entry, kept := double[number%pointers*4:], s.FirstData+1+number
		// The kernel reads this map at each growth and refuses where it is another: so does this,
		// before a byte is written.
		if uint64(le.Uint32(entry)) != kept {
			return fmt.Errorf("inode %d: entry %d is %d, not %d: %w", resizeInode, number%pointers, le.Uint32(entry), kept, field.ErrRange)
		}
		// It becomes a block of descriptors, or nothing is kept any more.
		if number < g.is.desc || !g.is.resize {
			le.PutUint32(entry, 0)
			continue
		}
		if old == len(g.copies) {
			continue // no new copies
		}
		list, err := g.readBlock(kept)
		if err != nil {
			return err
		}
		for k, group := range g.copies {
			place, want := list[4*k:], s.groupStart(group)+1+number
			if k < old && uint64(le.Uint32(place)) != want {
				return fmt.Errorf("block %d, kept for descriptors: copy %d is at %d, not %d: %w", kept, k,
					le.Uint32(place), want, field.ErrRange)
			}
			le.PutUint32(place, uint32(want))
		}
		g.put(kept, list)
	}
	if !g.is.resize {
		g.dind = at
		return g.putResizeInode(n, 0)
	}
	g.put(at, double)
	return g.putResizeInode(n, 1+g.is.reserved*(1+uint64(len(g.copies))))
}

// putResizeInode writes the inode with another number of blocks; without any it has no map.
func (g *growing) putResizeInode(n inode, blocks uint64) error {
	s := g.s
	at, err := s.placeOfInode(g.dev, resizeInode)
	if err != nil {
		return err
	}
	old, err := block.ReadSized(g.dev, int64(at), int64(s.InodeSize), int64(s.BlockSize))
	if err != nil {
		return err
	}
	b := slices.Clone(old)
	units := blocks * uint64(s.BlockSize) / 512
	n.BlocksLo, n.BlocksHi = uint32(units), uint16(units>>32)
	if blocks == 0 {
		binary.LittleEndian.PutUint32(n.Block[13*4:], 0)
	}
	copy(b, field.Encode(binary.LittleEndian, &n.inodeFirst))
	s.sealInode(b, resizeInode, n)
	g.putAt(int64(at), b)
	return nil
}

// inodeHolds checks the checksum of the resize inode.
func (g *growing) inodeHolds(n inode) error {
	at, err := g.s.placeOfInode(g.dev, resizeInode)
	if err != nil {
		return err
	}
	raw, err := block.ReadSized(g.dev, int64(at), int64(g.s.InodeSize), int64(g.s.BlockSize))
	if err != nil {
		return err
	}
	sealed := slices.Clone(raw)
	if g.s.sealInode(sealed, resizeInode, n); !bytes.Equal(sealed, raw) {
		return fmt.Errorf("inode %d, at byte %d: %w", resizeInode, at, field.ErrChecksum)
	}
	return nil
}

// sealInode computes the checksum in the bytes of an inode: over all of it, with the halves of
// the checksum as zeros.
func (s *Superblock) sealInode(b []byte, number uint32, n inode) {
	if !s.hasChecksum() {
		return
	}
	le := binary.LittleEndian
	lo, hi := inodeSumLoAt, inodeSumHiAt
	wideSum := len(b) > inodeShort && int(n.ExtraSize) >= hi+2-inodeShort
	le.PutUint16(b[lo:], 0)
	if wideSum {
		le.PutUint16(b[hi:], 0)
	}
	sum := crc(crc(crc(s.seed(), le.AppendUint32(nil, number)), le.AppendUint32(nil, n.Generation)), b)
	le.PutUint16(b[lo:], uint16(sum))
	if wideSum {
		le.PutUint16(b[hi:], uint16(sum>>16))
	}
}

// freeMap frees the map of a resize inode that is gone, in the bitmap of its group.
func (g *growing) freeMap(bitmap []byte) error {
	i := (g.dind - g.s.FirstData) % uint64(g.s.BlocksPerGroup)
	if bitmap[i/8]>>(i%8)&1 == 0 {
		return fmt.Errorf("block %d of inode %d: %w: its group says that it is free", g.dind, resizeInode, field.ErrRange)
	}
	bitmap[i/8] &^= 1 << (i % 8)
	g.dind = 0
	return nil
}

// giveBack does so where that is another group than the last one of before.
func (g *growing) giveBack() error {
	if g.dind == 0 {
		return nil
	}
	s, n := g.s, g.s.groupOf(g.dind)
	d, err := s.descriptor(g.dev, n)
	if err != nil {
		return err
	}
	bitmap, err := g.bitmapOfOld(n, d)
	if err != nil {
		return err
	}
	if err := g.freeMap(bitmap); err != nil {
		return err
	}
	d.FreeBlocksLo, d.FreeBlocksHi = short((uint32(d.FreeBlocksLo) | uint32(d.FreeBlocksHi)<<16) + 1)
	d.BlockSumLo, d.BlockSumHi = s.bitmapSum(bitmap)
	g.free++
	g.places[n] = &d
	g.put(wide(d.BlockBitmapLo, d.BlockBitmapHi), bitmap)
	return nil
}

// readBlock reads a block, as the caller's own.
func (g *growing) readBlock(at uint64) ([]byte, error) {
	b, err := block.ReadSized(g.dev, int64(at)*int64(g.s.BlockSize), int64(g.s.BlockSize), int64(g.s.BlockSize))
	return slices.Clone(b), err
}

func sorted(spans []extent.Span) []extent.Span {
	l := Layout{used: spans}
	l.sortUsed()
	return l.used
}
