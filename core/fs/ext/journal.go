package ext

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"slices"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/quantity"
)

// dropJournal gives the blocks of a clean journal back: its own and those of its map. The
// superblock is the caller's.
func (s *Superblock) dropJournal(dev block.Device) error {
	// With clusters a bit of the bitmap stands for several blocks, which may belong to other
	// files too.
	if s.disk.JournalInode == 0 || s.RO&roBigalloc != 0 {
		return fmt.Errorf("%w: a journal on another device, or clusters", fs.ErrUnsupported)
	}
	number := uint64(s.disk.JournalInode)
	n, err := s.inode(dev, number)
	if err != nil {
		return err
	}
	spans, err := s.blocksOf(dev, n)
	if err != nil {
		return fmt.Errorf("inode %d, the journal: %w", number, err)
	}
	freed := quantity.Count(0)
	// Group by group, since each has its own bitmap and its own counts; a run that goes over the
	// border of a group is cut there.
	for len(spans) > 0 {
		group := (spans[0].Start - s.FirstData) / uint64(s.BlocksPerGroup)
		end := s.FirstData + (group+1)*uint64(s.BlocksPerGroup)
		var here []extent.Span
		for len(spans) > 0 && spans[0].Start < end {
			first := spans[0]
			if first.End() > end {
				spans[0] = extent.Span{Start: end, Count: first.End() - end}
				first.Count = end - first.Start
			} else {
				spans = spans[1:]
			}
			here = append(here, first)
			freed += quantity.Count(first.Count)
		}
		if err := s.release(dev, group, here); err != nil {
			return err
		}
	}
	// The inode stays reserved, and is cleared whole: a journal that is made later begins from
	// zeros. So the counts of inodes stay as they are.
	at, err := s.placeOfInode(dev, number)
	if err != nil {
		return err
	}
	if err := block.WriteBytes(dev, make([]byte, s.InodeSize), int64(at)); err != nil {
		return err
	}
	s.Free += freed
	s.disk.FreeLo, s.disk.FreeHi = halves(uint64(s.Free))
	return nil
}

// forgetJournal takes the journal out of a superblock.
func (d *super) forgetJournal() {
	// Modes in which data goes through the journal: without one a mount by them is refused.
	const dataModes = 0x60
	d.Compat &^= compatJournal | compatFastCommit
	d.JournalInode, d.JournalBackup, d.JournalMap, d.JournalUUID = 0, 0, [68]byte{}, uuid.Nil
	d.MountDefaults &^= dataModes
}

// release marks blocks of a group as free, in its bitmap and its descriptor. Each has to be in
// use.
func (s *Superblock) release(dev block.Device, group uint64, spans []extent.Span) error {
	raw, at, err := s.rawDescriptor(dev, group)
	if err != nil {
		return err
	}
	var d descriptor
	le, whole := binary.LittleEndian, make([]byte, max(len(raw), binary.Size(d)))
	copy(whole, raw)
	if err := field.Decode(whole, le, &d); err != nil {
		return err
	}
	bitmapAt := int64(wide(d.BlockBitmapLo, d.BlockBitmapHi)) * int64(s.BlockSize)
	bitmap, err := block.ReadSized(dev, bitmapAt, int64(s.BlockSize), int64(s.BlockSize))
	if err != nil {
		return fmt.Errorf("bitmap of group %d: %w", group, err)
	}
	bitmap = slices.Clone(bitmap)
	// Such a bitmap was never written: its bytes on the disk are whatever lay there, and a change
	// of them would make them count.
	if d.Flags&blockUninit != 0 {
		return fmt.Errorf("bitmap of group %d: %w: the group says that none was written, and the journal is in it", group, field.ErrRange)
	}
	if lo, hi := short(crc(s.seed(), bitmap[:s.bitmapBytes()])); s.hasChecksum() &&
		(lo != d.BlockSumLo || s.Incompat&incompat64Bit != 0 && hi != d.BlockSumHi) {
		return fmt.Errorf("bitmap of group %d, at byte %d: %w", group, bitmapAt, field.ErrChecksum)
	}
	free := uint32(d.FreeBlocksLo) | uint32(d.FreeBlocksHi)<<16
	for _, span := range spans {
		for b := span.Start; b < span.End(); b++ {
			i := (b - s.FirstData) % uint64(s.BlocksPerGroup)
			// A block of the journal that is free already belongs to two: giving it back once
			// more would hand out what somebody uses.
			if bitmap[i/8]>>(i%8)&1 == 0 {
				return fmt.Errorf("block %d of the journal: %w: its group says that it is free", b, field.ErrRange)
			}
			bitmap[i/8] &^= 1 << (i % 8)
			free++
		}
	}
	d.FreeBlocksLo, d.FreeBlocksHi = short(free)
	if s.hasChecksum() {
		d.BlockSumLo, d.BlockSumHi = short(crc(s.seed(), bitmap[:s.bitmapBytes()]))
	}
	// Of a short descriptor only its first half is written back.
	changed := d.encode()
	copy(raw, changed[:min(len(raw), len(changed))])
	s.sealDescriptor(raw, group, s.UUID, descriptorSumAt)
	// Bitmap before descriptor: a cut between the two leaves a wrong checksum, which everybody
	// refuses, and never a count that looks right.
	if err := block.WriteBytes(dev, bitmap, bitmapAt); err != nil {
		return err
	}
	return block.WriteBytes(dev, raw, at)
}

// sealDescriptors computes the older checksums of all descriptors anew, for another
// identifier; the copies of them stay, as they do while the kernel writes.
func (s *Superblock) sealDescriptors(dev block.Device, id uuid.UUID) error {
	for group := range s.Groups() {
		raw, at, err := s.rawDescriptor(dev, group)
		if err != nil {
			return err
		}
		s.sealDescriptor(raw, group, id, descriptorSumAt)
		if err := block.WriteBytes(dev, raw, at); err != nil {
			return err
		}
	}
	return nil
}

// mostMaps bounds the blocks of a journal's map: more are a loop.
// Of 4096 bytes each they map 2^26 blocks, 256 GiB: more than any journal has.
const mostMaps = 1 << 16

// blocksOf lists the blocks of an inode, those of its map included, sorted; pieces that touch
// are one. A block that is used twice, or lies outside, is field.ErrRange.
func (s *Superblock) blocksOf(dev block.Device, n inode) ([]extent.Span, error) {
	w := &walk{s: s, dev: dev}
	// A tree of extents has at most five levels (EXT4_MAX_EXTENT_DEPTH); the older map has twelve
	// blocks, and then one, two and three levels of lists.
	if n.Flags&flagExtents != 0 {
		w.tree(n.Block[:], 5)
	} else {
		le := binary.LittleEndian
		for i := range directBlocks + 3 {
			w.number(uint64(le.Uint32(n.Block[4*i:])), max(0, i-directBlocks+1))
		}
	}
	if w.err != nil {
		return nil, w.err
	}
	slices.SortFunc(w.found, func(a, b extent.Span) int { return cmp.Compare(a.Start, b.Start) })
	var merged []extent.Span
	for _, f := range w.found {
		switch last := len(merged) - 1; {
		case last >= 0 && f.Start < merged[last].End():
			return nil, fmt.Errorf("block %d is in it twice: %w", f.Start, field.ErrRange)
		case last >= 0 && f.Start == merged[last].End():
			merged[last].Count += f.Count
		default:
			merged = append(merged, f)
		}
	}
	return merged, nil
}

// walk gathers the blocks of an inode; it keeps the first error.
type walk struct {
	s     *Superblock
	dev   block.Device
	found []extent.Span
	maps  int
	err   error
}

func (w *walk) add(start, count uint64) {
	if w.err == nil && (count == 0 || start <= w.s.FirstData || start >= uint64(w.s.Blocks) || count > uint64(w.s.Blocks)-start) {
		w.err = fmt.Errorf("blocks %d + %d of %d: %w", start, count, w.s.Blocks, field.ErrRange)
	}
	if last := len(w.found) - 1; last >= 0 && w.found[last].End() == start {
		w.found[last].Count += count // a map of numbers names one block after the other
		return
	}
	w.found = append(w.found, extent.Span{Start: start, Count: count})
}

// node adds a block of the map and reads it.
func (w *walk) node(at uint64) []byte {
	w.add(at, 1)
	if w.maps++; w.err == nil && w.maps > mostMaps {
		w.err = fmt.Errorf("its map has more than %d blocks: %w", mostMaps, field.ErrRange)
	}
	if w.err != nil {
		return nil
	}
	b, err := block.ReadSized(w.dev, int64(at)*int64(w.s.BlockSize), int64(w.s.BlockSize), int64(w.s.BlockSize))
	w.err = err
	return b
}

// number is a block, or at a depth the block of a map; 0 is a hole.
func (w *walk) number(at uint64, depth int) {
	if at == 0 || w.err != nil {
		return
	}
	if depth == 0 {
		w.add(at, 1)
		return
	}
	b := w.node(at)
	for i := 0; i+4 <= len(b) && w.err == nil; i += 4 {
		w.number(uint64(binary.LittleEndian.Uint32(b[i:])), depth-1)
	}
}

// tree is a node of extents, at most so many levels above the last.
func (w *walk) tree(b []byte, most int) {
	le := binary.LittleEndian
	entries, depth := int(le.Uint16(b[2:])), int(le.Uint16(b[6:]))
	if le.Uint16(b) != extentMagic || 12+12*entries > len(b) || depth > most {
		w.err = fmt.Errorf("node of extents: %w", field.ErrRange)
	}
	for i := 0; i < entries && w.err == nil; i++ {
		e := b[12+12*i:]
		if depth == 0 {
			count := uint64(le.Uint16(e[4:]))
			// The upper bit says that the blocks are kept and were never written: they read as
			// zeros, and are in use all the same.
			if count > maxExtent { // not initialised
				count -= maxExtent
			}
			w.add(uint64(le.Uint16(e[6:]))<<32|uint64(le.Uint32(e[8:])), count)
			continue
		}
		below := w.node(uint64(le.Uint16(e[8:]))<<32 | uint64(le.Uint32(e[4:])))
		if w.err == nil {
			w.tree(below, depth-1)
		}
	}
}
