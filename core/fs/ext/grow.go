package ext

import (
	"bytes"
	"context"
	"fmt"
	"math/bits"
	"slices"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/extent"
	"fundus/core/progress"
	"fundus/core/quantity"
)

// Grow makes a file system that is not mounted larger, to at most so many bytes, by the rule
// by which the kernel would: with the same blocks, groups and inodes. It gives the size that it
// has then. What lies behind its old end is written first, while it is whole still; then what
// lies within, with which it is in pieces, and a fence stands for it; the superblock last.
//
// Errors: ErrGrow, fs.ErrUnsupported, field.ErrRange where what is there does not fit together.
func Grow(ctx context.Context, dev block.Device, to quantity.Bytes, sink progress.Sink) (quantity.Bytes, error) {
	s, err := sound(dev)
	if err == nil {
		err = s.growable()
	}
	if err != nil {
		return 0, err
	}
	// The kernel frees them at the next mount, by bitmaps and counts that a growth changes.
	if s.disk.LastOrphan != 0 {
		return 0, fmt.Errorf("%w: files that were deleted while they were open are to be taken away first: mount and unmount it once",
			ErrGrow)
	}
	f, err := s.reach(uint64(min(to, quantity.Bytes(dev.Size())) / s.BlockSize))
	if err != nil || f.blocks == uint64(s.Blocks) {
		return s.Size(), err
	}
	g := &growing{Writer: block.NewWriter(ctx, dev), s: s, dev: dev, was: s.shape(), is: f, sink: sink, places: map[uint64]*descriptor{}}
	if err := g.run(); err != nil {
		return 0, err
	}
	return quantity.Bytes(f.blocks) * s.BlockSize, nil
}

// growing is one growth. It keeps the first error of writing.
type growing struct {
	*block.Writer
	s       *Superblock // as it was
	dev     block.Device
	was, is shape
	sink    progress.Sink
	last    uint64                 // the last group of before
	places  map[uint64]*descriptor // of groups that change, or are new
	used    []extent.Span          // beyond the old end, in order
	free    uint64                 // blocks more than before
	dind    uint64                 // the resize inode's block that is given back; 0: none is
	copies  []uint64               // groups with a copy of the superblock, group 0 left out
	within  []pending              // what is written before the old end, once all behind it is
}

// pending is bytes with their place.
type pending struct {
	at int64
	b  []byte
}

func (g *growing) run() error {
	g.last = g.was.groups - 1
	for n := uint64(1); n < g.is.groups; n++ {
		if g.s.hasCopy(n) {
			g.copies = append(g.copies, n)
		}
	}
	// Before anything is placed: it says whether blocks that are kept for descriptors come free.
	if err := g.resizeInode(); err != nil {
		return err
	}
	g.place()
	if err := g.lastGroup(); err != nil {
		return err
	}
	for n := g.was.groups; n < g.is.groups; n++ {
		g.newGroup(n)
	}
	if err := g.giveBack(); err != nil {
		return err
	}
	return g.descriptorsAndCopies()
}

// put writes whole blocks, which are not the caller's any more.
func (g *growing) put(at uint64, b []byte) { g.putAt(int64(at)*int64(g.s.BlockSize), b) }

// putAt writes bytes: at once behind the old end, and what is within later.
func (g *growing) putAt(at int64, b []byte) {
	// Until the superblock says otherwise nothing behind the old end is read by anybody: it may
	// be written at once, while what is within is whole.
	if at < int64(g.s.Size()) {
		g.within = append(g.within, pending{at, b})
		return
	}
	g.Put(b, at)
}

// place gives the new groups their bitmaps and tables: those of a flexible group side by side
// from its first new group on, else each in its own.
func (g *growing) place() {
	flex := uint64(1)
	// The kernel ignores a power of 32 and more, so that groups stand alone then.
	if g.s.Incompat&incompatFlexBG != 0 && g.s.disk.LogFlex < 32 {
		flex = 1 << g.s.disk.LogFlex
	}
	for from := g.was.groups; from < g.is.groups; {
		to := min((from/flex+1)*flex, g.is.groups)
		if !g.placeRun(from, to) {
			for n := from; n < to; n++ {
				g.placeRun(n, n+1) // the rule leaves room for that in each
			}
		}
		from = to
	}
}

// placeRun places the groups together; false where they have no room so.
func (g *growing) placeRun(from, to uint64) bool {
	s := g.s
	// In the order of the kernel's own growth: all block bitmaps, all inode bitmaps, all tables.
	// So each lies in one run, which is read at once.
	a := allocator{at: s.groupStart(from), end: min(s.groupStart(to), g.is.blocks)}
	for n := from; n < to; n++ {
		if head := s.head(g.is, n); head > 0 {
			a.base = append(a.base, extent.Span{Start: s.groupStart(n), Count: head})
		}
	}
	run := make([]groupPlace, to-from)
	for i := range run {
		run[i].blockBitmap = a.take(1)
	}
	for i := range run {
		run[i].inodeBitmap = a.take(1)
	}
	for i := range run {
		run[i].inodeTable = a.take(s.tableBlocks())
	}
	// A flexible group at the end may be too short for the metadata of all its groups together.
	if a.full {
		return false
	}
	for i, p := range run {
		d := &descriptor{}
		d.BlockBitmapLo, d.BlockBitmapHi = halves(p.blockBitmap)
		d.InodeBitmapLo, d.InodeBitmapHi = halves(p.inodeBitmap)
		d.InodeTableLo, d.InodeTableHi = halves(p.inodeTable)
		g.places[from+uint64(i)] = d
	}
	g.used = append(g.used, sorted(a.taken())...)
	return true
}

// usedIn gives what is used of a new group, relative to its start, and how many blocks it has.
func (g *growing) usedIn(n uint64) (spans []extent.Span, blocks uint64) {
	l := Layout{FirstData: g.s.FirstData, BlocksPerGroup: uint64(g.s.BlocksPerGroup), Blocks: g.is.blocks, used: g.used}
	return l.usedIn(n)
}

// summed reports whether descriptors have checksums, with which the kernel believes that a
// group was not written yet.
func (s *Superblock) summed() bool { return s.RO&(roMetadataCsum|roDescCsum) != 0 }

// newGroup writes the bitmaps and the table of a new group where the kernel needs them, and
// completes its descriptor.
func (g *growing) newGroup(n uint64) {
	s, d := g.s, g.places[n]
	if n%4096 == 0 {
		g.sink.Send("block groups", quantity.Bytes(n*uint64(s.BlocksPerGroup))*s.BlockSize, quantity.Bytes(g.is.blocks)*s.BlockSize)
	}
	used, blocks := g.usedIn(n)
	free := blocks
	for _, span := range used {
		free -= span.Count
	}
	g.free += free
	d.FreeBlocksLo, d.FreeBlocksHi = short(uint32(free))
	d.FreeInodesLo, d.FreeInodesHi = short(s.InodesPerGroup)
	if !s.summed() {
		g.put(wide(d.InodeBitmapLo, d.InodeBitmapHi), bitmapOf(s.BlockSize, nil, uint64(s.InodesPerGroup)))
		g.Zero(int64(d.inodeTable())*int64(s.BlockSize), int64(s.tableBlocks())*int64(s.BlockSize))
		g.put(wide(d.BlockBitmapLo, d.BlockBitmapHi), bitmapOf(s.BlockSize, used, blocks))
		return
	}
	// All inodes are unused, and the table is not zeroed: the kernel does that after the next
	// mount.
	d.UnusedLo, d.UnusedHi = short(s.InodesPerGroup)
	d.Flags = inodeUninit
	// The kernel works out the bitmap of a group that holds its own metadata alone. The last
	// group it never does that for, and metadata of others it would not see.
	if own := g.own(n, d); n == g.is.groups-1 || own != blocks-free {
		bitmap := bitmapOf(s.BlockSize, used, blocks)
		g.put(wide(d.BlockBitmapLo, d.BlockBitmapHi), bitmap)
		d.BlockSumLo, d.BlockSumHi = s.bitmapSum(bitmap)
	} else {
		d.Flags |= blockUninit // the kernel works it out: nothing lies there but what is the group's own
	}
}

// own is how many blocks of a group are its own by rights, as the kernel would work them out.
func (g *growing) own(n uint64, d *descriptor) uint64 {
	own, here := g.s.head(g.is, n), extent.Span{Start: g.s.groupStart(n), Count: uint64(g.s.BlocksPerGroup)}
	for _, span := range []extent.Span{
		{Start: wide(d.BlockBitmapLo, d.BlockBitmapHi), Count: 1},
		{Start: wide(d.InodeBitmapLo, d.InodeBitmapHi), Count: 1},
		{Start: d.inodeTable(), Count: g.s.tableBlocks()},
	} {
		if span.Overlaps(here) {
			own += span.Count
		}
	}
	return own
}

func (s *Superblock) bitmapSum(bitmap []byte) (lo, hi uint16) {
	if !s.hasChecksum() {
		return 0, 0
	}
	return short(crc(s.seed(), bitmap[:s.bitmapBytes()]))
}

// lastGroup gives the last group of before the blocks that it lacks to a whole one.
func (g *growing) lastGroup() error {
	s := g.s
	had := uint64(s.Blocks) - s.groupStart(g.last)
	has := min(uint64(s.BlocksPerGroup), g.is.blocks-s.groupStart(g.last))
	if has == had {
		return nil
	}
	d, err := s.descriptor(g.dev, g.last)
	if err != nil {
		return err
	}
	bitmap, err := g.bitmapOfOld(g.last, d)
	if err != nil {
		return err
	}
	// Blocks behind the old end were marked as taken, since there were none.
	for i := had; i < has; i++ {
		bitmap[i/8] &^= 1 << (i % 8)
	}
	d.Flags &^= blockUninit // the kernel never leaves the last one so, and its end is another now
	more := has - had
	if g.dind > 0 && s.groupOf(g.dind) == g.last {
		if err := g.freeMap(bitmap); err != nil {
			return err
		}
		more++
	}
	d.FreeBlocksLo, d.FreeBlocksHi = short((uint32(d.FreeBlocksLo) | uint32(d.FreeBlocksHi)<<16) + uint32(more))
	d.BlockSumLo, d.BlockSumHi = s.bitmapSum(bitmap)
	g.free += more
	g.places[g.last] = &d
	g.put(wide(d.BlockBitmapLo, d.BlockBitmapHi), bitmap)
	return nil
}

// bitmapOfOld reads the block bitmap of a group of before, or works it out as the kernel does
// where it was never written.
func (g *growing) bitmapOfOld(n uint64, d descriptor) ([]byte, error) {
	s := g.s
	if err := g.descriptorHolds(n); err != nil {
		return nil, err
	}
	if b := wide(d.BlockBitmapLo, d.BlockBitmapHi); b <= s.FirstData || b >= uint64(s.Blocks) {
		return nil, fmt.Errorf("bitmap of group %d: block %d: %w of %d blocks", n, b, field.ErrRange, s.Blocks)
	}
	at := int64(wide(d.BlockBitmapLo, d.BlockBitmapHi)) * int64(s.BlockSize)
	blocks := min(uint64(s.BlocksPerGroup), uint64(s.Blocks)-s.groupStart(n))
	if d.Flags&blockUninit != 0 {
		// As ext4_init_block_bitmap in fs/ext4/balloc.c of Linux: the head of the group, its own
		// bitmaps and its own table, and the end.
		bitmap := bitmapOf(s.BlockSize, []extent.Span{{Start: 0, Count: s.head(g.was, n)}}, blocks)
		start := s.groupStart(n)
		for _, span := range []extent.Span{
			{Start: wide(d.BlockBitmapLo, d.BlockBitmapHi), Count: 1},
			{Start: wide(d.InodeBitmapLo, d.InodeBitmapHi), Count: 1},
			{Start: d.inodeTable(), Count: s.tableBlocks()},
		} {
			if from, to := max(span.Start, start), min(span.End(), start+blocks); from < to {
				setBits(bitmap, from-start, to-start)
			}
		}
		return bitmap, nil
	}
	b, err := block.ReadSized(g.dev, at, int64(s.BlockSize), int64(s.BlockSize))
	if err != nil {
		return nil, fmt.Errorf("bitmap of group %d: %w", n, err)
	}
	bitmap := append([]byte(nil), b...)
	if lo, hi := s.bitmapSum(bitmap); s.hasChecksum() && (lo != d.BlockSumLo || s.Incompat&incompat64Bit != 0 && hi != d.BlockSumHi) {
		return nil, fmt.Errorf("bitmap of group %d, at byte %d: %w", n, at, field.ErrChecksum)
	}
	return bitmap, nil
}

// descriptorHolds checks the checksum of a group's descriptor, by which the places are known
// that are written to.
func (g *growing) descriptorHolds(n uint64) error {
	raw, at, err := g.s.rawDescriptor(g.dev, n)
	if err != nil || !g.s.summed() {
		return err
	}
	sealed := slices.Clone(raw)
	if g.s.sealDescriptor(sealed, n, g.s.UUID, descriptorSumAt); !bytes.Equal(sealed, raw) {
		return fmt.Errorf("descriptor of group %d, at byte %d: %w", n, at, field.ErrChecksum)
	}
	return nil
}

// descriptorsAndCopies writes what refers to the new groups: what lies beyond the old end, then
// the descriptors and copies within, the superblock last.
func (g *growing) descriptorsAndCopies() error {
	changed, err := g.descriptors()
	if err != nil {
		return err
	}
	// Copies are written with the primary one's content, each with its own group number.
	after := g.superblock()
	for number, raw := range changed {
		for _, at := range g.homes(number) {
			g.put(at, raw)
		}
	}
	for _, n := range g.copies {
		c := after
		c.disk.GroupNumber = uint16(n)
		g.putAt(int64(g.s.groupStart(n))*int64(g.s.BlockSize), c.sealed())
	}
	g.Sync()
	for _, p := range g.within {
		g.Put(p.b, p.at)
	}
	g.Sync()
	g.Put(after.sealed(), superOffset)
	g.Sync()
	return g.Err()
}

// homes lists the blocks in which a block of descriptors lies, its copies included.
func (g *growing) homes(number uint64) (out []uint64) {
	s := g.s
	if !g.is.meta || number < g.is.firstMeta {
		out = append(out, s.FirstData+1+number)
		for _, n := range g.copies {
			if !g.is.meta || n/s.perDesc() < g.is.firstMeta {
				out = append(out, s.groupStart(n)+1+number)
			}
		}
		return out
	}
	first := number * s.perDesc()
	for _, n := range []uint64{first, first + 1, first + s.perDesc() - 1} {
		if n < g.is.groups {
			at := s.groupStart(n)
			if s.hasCopy(n) {
				at++
			}
			out = append(out, at)
		}
	}
	return out
}

// descriptors gives the blocks of descriptors that change, by their number. Where a new copy
// lies beyond the old end, all of those behind a superblock are written there.
func (g *growing) descriptors() (map[uint64][]byte, error) {
	s := g.s
	size, changed := uint64(s.descriptorSize()), map[uint64][]byte{}
	fresh := false // a new copy of the superblock that has descriptors behind it
	for _, n := range g.copies {
		fresh = fresh || n >= g.was.groups && (!g.is.meta || n/s.perDesc() < g.is.firstMeta)
	}
	for number := range s.descBlocks(g.is.groups) {
		touched := fresh && (!g.is.meta || number < g.is.firstMeta)
		for n := number * s.perDesc(); n < min((number+1)*s.perDesc(), g.is.groups); n++ {
			touched = touched || g.places[n] != nil
		}
		if !touched {
			continue
		}
		raw := make([]byte, s.BlockSize)
		if number < s.descBlocks(g.was.groups) {
			old, err := block.ReadSized(g.dev, int64(s.descHome(g.was, number))*int64(s.BlockSize), int64(s.BlockSize), int64(s.BlockSize))
			if err != nil {
				return nil, fmt.Errorf("descriptors of block %d: %w", number, err)
			}
			copy(raw, old)
		}
		for n := number * s.perDesc(); n < min((number+1)*s.perDesc(), g.is.groups); n++ {
			if d := g.places[n]; d != nil {
				b := raw[n%s.perDesc()*size:][:size]
				encoded := d.encode()
				copy(b, encoded[:min(len(encoded), len(b))])
				s.sealDescriptor(b, n, s.UUID, descriptorSumAt)
			}
		}
		changed[number] = raw
	}
	return changed, nil
}

// descHome is the block in which the first copy of a block of descriptors lies.
func (s *Superblock) descHome(f shape, number uint64) uint64 {
	if !f.meta || number < f.firstMeta {
		return s.FirstData + 1 + number
	}
	at := s.groupStart(number * s.perDesc())
	if s.hasCopy(number * s.perDesc()) {
		at++
	}
	return at
}

// superblock is that of afterwards. What is kept for root stays the same share, exactly.
func (g *growing) superblock() Superblock {
	after := *g.s
	d := &after.disk
	d.BlocksLo, d.BlocksHi = halves(g.is.blocks)
	d.FreeLo, d.FreeHi = halves(uint64(g.s.Free) + g.free)
	more := uint32(g.is.groups-g.was.groups) * g.s.InodesPerGroup
	d.Inodes, d.FreeInodes = d.Inodes+more, d.FreeInodes+more
	hi, lo := bits.Mul64(uint64(g.s.Reserved), g.is.blocks)
	reserved, _ := bits.Div64(hi, lo, uint64(g.s.Blocks)) // it is at most the blocks there are
	d.ReservedLo, d.ReservedHi = halves(reserved)
	if g.s.Incompat&incompat64Bit == 0 {
		d.BlocksHi, d.FreeHi, d.ReservedHi = 0, 0, 0
	}
	d.ReservedGDT, d.Overhead = uint16(g.is.reserved), 0 // the kernel counts what it lacks
	if g.is.meta && !g.was.meta {
		d.Compat &^= compatResizeInode
		d.Incompat |= incompatMetaBG
		d.FirstMetaGroup = uint32(g.is.firstMeta)
	}
	after.Compat, after.Incompat = d.Compat, d.Incompat
	return after
}
