package ext

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/progress"
	"fundus/core/quantity"
)

// Options is what a new ext4 is made with.
type Options struct {
	BlockSize quantity.Bytes // 1024, 2048 or 4096; 0 for 4096, or 1024 below 512 MiB
	Label     string         // at most 16 bytes
	UUID      uuid.UUID
	// ReservedTenths is the share kept for root, in tenths of a percent.
	ReservedTenths int
	// For is the reader, as its setting has it.
	For           int64
	Time          time.Time
	HashSeed      uuid.UUID // random: salts the directory hashes
	JournalUUID   uuid.UUID // random: keeps blocks of an earlier journal out
	FirstSequence uint32    // random, for the same reason
	Sink          progress.Sink
}

// DefaultReservedTenths is 5 percent.
const DefaultReservedTenths = 50

// Limits and ratios of a new file system.
const (
	bytesPerInode  = 16384
	bytesPerSmall  = 4096 // below smallBlocks: small disks hold small files
	groupsPerFlex  = 16
	logFlex        = 4
	growthFactor   = 1024 // descriptors are reserved for growing so much
	minJournal     = 1024 // blocks; the least that the kernel accepts
	maxJournal     = 1 << 30
	smallJournal   = 4 << 20 // bytes; a transaction takes a quarter, and growing online needs some hundred blocks
	journalShare   = 128     // the journal takes 1/128 of the blocks
	maxExtent      = 32768   // blocks
	lostFoundSize  = 16384   // bytes
	smallBlocks    = 512 << 20
	maxSize        = 64 << 40 // beyond, the descriptors fill their groups
	maxResizeBlock = 1 << 32  // resize_inode maps 32-bit block numbers
)

// Layout is where everything of a new ext4 goes. Blocks are file-system
// blocks.
type Layout struct {
	BlockSize      quantity.Bytes
	Blocks         uint64
	FirstData      uint64
	BlocksPerGroup uint64
	InodesPerGroup uint64
	Groups         uint64
	DescBlocks     uint64 // of descriptors, in each copy
	ReservedGDT    uint64 // blocks kept for more of them
	TableBlocks    uint64 // of one group's inode table
	JournalBlocks  uint64 // 0: too small for a journal
	Journal        []extent.Span
	Reserved       uint64 // blocks for root
	Left           quantity.Bytes

	groups      []groupPlace
	backups     []uint64 // groups
	used        []extent.Span
	root        uint64
	lostFound   extent.Span
	resizeMap   uint64 // the double-indirect block of the resize inode
	journalLeaf uint64 // extent leaf of the journal, 0 where the inode has room
	options     Options
	hinted      bool // the device has chosen the block size
}

type groupPlace struct{ blockBitmap, inodeBitmap, inodeTable uint64 }

// Plan works out the layout for a device of the given size. It is pure: the
// same arguments give the same layout.
func Plan(size quantity.Bytes, geo block.Geometry, o Options) (*Layout, error) {
	if len(o.Label) > 16 {
		return nil, fmt.Errorf("%w: %q has %d bytes, ext4 takes at most 16", fs.ErrLabel, o.Label, len(o.Label))
	}
	hinted := false
	if o.BlockSize == 0 {
		o.BlockSize = 4096
		if size < smallBlocks {
			hinted = geo.Physical > 1024 // a smaller block would be read and written back within one sector
			if !hinted {
				o.BlockSize = 1024
			}
		}
	}
	if b := o.BlockSize; b != 1024 && b != 2048 && b != 4096 || int64(b) < geo.Logical {
		return nil, fmt.Errorf("%w: %d bytes; ext4 takes 1024, 2048 or 4096, and at least the logical sector of %d", fs.ErrBlockSize, b, geo.Logical)
	}
	if size > maxSize {
		return nil, fmt.Errorf("%w: %v; Fundus makes ext4 up to %v", fs.ErrTooLarge, size, quantity.Bytes(maxSize))
	}
	l := &Layout{BlockSize: o.BlockSize, Blocks: uint64(size / o.BlockSize), BlocksPerGroup: uint64(8 * o.BlockSize), options: o, hinted: hinted}
	if o.BlockSize == 1024 {
		l.FirstData = 1
	}
	if err := l.sizeGroups(size); err != nil {
		return nil, err
	}
	if err := l.place(); err != nil {
		return nil, err
	}
	l.Reserved = l.Blocks/1000*uint64(o.ReservedTenths) + l.Blocks%1000*uint64(o.ReservedTenths)/1000
	l.Left = size - quantity.Bytes(l.Blocks)*l.BlockSize
	return l, nil
}

// sizeGroups works out the counts and leaves out a last group that is too
// short for its own metadata. Leaving one out changes the number of groups, and with it
// the inodes of each and the blocks kept for descriptors: hence the loop, which ends since
// each turn has fewer blocks.
func (l *Layout) sizeGroups(size quantity.Bytes) error {
	for {
		if l.Blocks < l.FirstData+64 {
			return fmt.Errorf("%w: %d bytes; ext4 needs about 256 KiB", fs.ErrTooSmall, size)
		}
		l.Groups = (l.Blocks - l.FirstData + l.BlocksPerGroup - 1) / l.BlocksPerGroup
		perBlock := uint64(l.BlockSize / gdSize)
		l.DescBlocks = (l.Groups + perBlock - 1) / perBlock
		l.reserveDescriptors(perBlock)
		if l.Groups > 1 && l.baseBlocks() > l.BlocksPerGroup/2 {
			return fmt.Errorf("%w in blocks of %d bytes: the group descriptors would fill their groups; block=4KiB has room", fs.ErrTooLarge, l.BlockSize)
		}
		l.countInodes()
		l.backups = backupGroups(l.Groups, true)
		last := l.Groups - 1
		size := l.Blocks - l.FirstData - last*l.BlocksPerGroup
		if last == 0 || size >= l.flexNeed(last/groupsPerFlex*groupsPerFlex, last)+64 {
			return nil
		}
		l.Blocks -= size
	}
}

// flexNeed is what the last group must hold: its own copy of the descriptors
// and, where it begins a flex group, that group's bitmaps and tables.
func (l *Layout) flexNeed(flexStart, last uint64) uint64 {
	need := uint64(0)
	if slices.Contains(l.backups, last) {
		need = l.baseBlocks()
	}
	if flexStart == last {
		need += 2 + l.TableBlocks
	}
	return need
}

// baseBlocks is what a copy takes: the superblock, the descriptors, and those kept for
// more. All copies are equally long, else the resize inode could not map them.
func (l *Layout) baseBlocks() uint64 { return 1 + l.DescBlocks + l.ReservedGDT }

// reserveDescriptors keeps blocks behind the descriptors, so that the kernel can grow the
// file system while it is mounted without moving what lies behind. They belong to the
// resize inode, whose map has 32-bit numbers and one double-indirect block: so there are
// at most as many as one block has pointers, and none where block numbers are wider.
// Beyond them the kernel grows by meta_bg, which needs none.
func (l *Layout) reserveDescriptors(perBlock uint64) {
	l.ReservedGDT = 0
	if l.Blocks >= maxResizeBlock {
		return
	}
	most := min(l.Blocks*growthFactor, maxResizeBlock-1)
	groups := (most + l.BlocksPerGroup - 1) / l.BlocksPerGroup
	want := (groups + perBlock - 1) / perBlock
	l.ReservedGDT = min(want-min(want, l.DescBlocks), uint64(l.BlockSize)/4)
	// The copies must leave most of a small group to the files.
	if limit := min(l.BlocksPerGroup, l.Blocks) / 8; l.ReservedGDT > limit {
		l.ReservedGDT = limit
	}
}

// countInodes gives every group the same number of inodes. Each table fills whole blocks,
// since a part of a block would be lost, and its bitmap whole bytes, since the kernel
// checks a checksum over whole bytes. One bitmap is one block: hence 8 for each of its
// bytes at the most. Inode numbers have 32 bits, whatever the size.
func (l *Layout) countInodes() {
	perBlock := uint64(l.BlockSize) / inodeSize
	step := max(perBlock, 8)
	size := l.Blocks * uint64(l.BlockSize)
	wanted := max(size/bytesPerInode, 16)
	if size < smallBlocks {
		wanted = max(size/bytesPerSmall, 16)
	}
	n := (wanted + l.Groups - 1) / l.Groups
	n = (n + step - 1) / step * step
	n = min(n, 8*uint64(l.BlockSize))
	for n*l.Groups > 1<<32-1 {
		n -= step
	}
	l.InodesPerGroup, l.TableBlocks = n, n/perBlock
}

// groupStart is the first block of a group. With blocks of 1 KiB the boot block has one of
// its own, so that groups begin at block 1.
func (l *Layout) groupStart(g uint64) uint64 { return l.FirstData + g*l.BlocksPerGroup }

// base gives the copies of superblock and descriptors in the groups, in order.
func (l *Layout) base(from, to uint64) []extent.Span {
	var out []extent.Span
	if from == 0 {
		out = append(out, extent.Span{Start: l.FirstData, Count: l.baseBlocks()})
	}
	for _, g := range l.backups {
		if g >= from && g < to {
			out = append(out, extent.Span{Start: l.groupStart(g), Count: l.baseBlocks()})
		}
	}
	return out
}

// place packs the bitmaps and tables of each flex group behind its start, then
// the first directories, then the journal.
func (l *Layout) place() error {
	l.groups = make([]groupPlace, l.Groups)
	for from := uint64(0); from < l.Groups; from += groupsPerFlex {
		// All bitmaps of a flex group stand side by side: the kernel reads them ahead in
		// one go, and large files run on over the starts of the groups.
		to := min(from+groupsPerFlex, l.Groups)
		cursor := allocator{at: l.groupStart(from), end: min(l.groupStart(to), l.Blocks), base: l.base(from, to)}
		for g := from; g < to; g++ {
			l.groups[g].blockBitmap = cursor.take(1)
		}
		for g := from; g < to; g++ {
			l.groups[g].inodeBitmap = cursor.take(1)
		}
		for g := from; g < to; g++ {
			l.groups[g].inodeTable = cursor.take(l.TableBlocks)
		}
		if from == 0 {
			l.root = cursor.take(1)
			l.lostFound = extent.Span{Count: max(lostFoundSize/uint64(l.BlockSize), 1)}
			l.lostFound.Start = cursor.take(l.lostFound.Count)
			if l.ReservedGDT > 0 {
				l.resizeMap = cursor.take(1)
			}
		}
		if cursor.full {
			return fmt.Errorf("%w: %d blocks do not hold their own metadata", fs.ErrTooSmall, l.Blocks)
		}
		l.used = append(l.used, cursor.taken()...)
	}
	l.sortUsed()
	if err := l.placeJournal(); err != nil {
		return err
	}
	l.sortUsed()
	return nil
}

// sortUsed sorts and merges.
func (l *Layout) sortUsed() {
	slices.SortFunc(l.used, func(a, b extent.Span) int { return cmp.Compare(a.Start, b.Start) })
	merged := l.used[:0]
	for _, s := range l.used {
		if n := len(merged); n > 0 && merged[n-1].End() == s.Start {
			merged[n-1].Count += s.Count
			continue
		}
		merged = append(merged, s)
	}
	l.used = merged
}

// placeJournal takes free runs from the middle of the disk on, so that the
// heads of a disk travel half the way.
//
// A journal is written all the time, and read only after a crash: it should be near to
// everything, in as few pieces as can be, since each piece is an extent, and the inode has
// room for four.
func (l *Layout) placeJournal() error {
	want := min(l.Blocks/journalShare, uint64(maxJournal/l.BlockSize))
	small := min(smallJournal/uint64(l.BlockSize), l.Blocks/16)
	want = max(want, minJournal, small)
	if want > l.Blocks/4 {
		return nil // too small for one
	}
	// From the start of a flex group: in its middle the journal would part what is packed.
	middle := l.groupStart(l.Groups / 2 / groupsPerFlex * groupsPerFlex)
	free := extent.Gaps(extent.Span{Start: middle, Count: l.Blocks - middle}, l.used)
	if middle > l.FirstData {
		free = append(free, extent.Gaps(extent.Span{Start: l.FirstData, Count: middle - l.FirstData}, l.used)...)
	}
	for i := 0; i < len(free) && l.JournalBlocks < want; {
		gap := &free[i]
		n := min(gap.Count, want-l.JournalBlocks, maxExtent) // a longer count means: not initialised
		if n == 0 {
			i++
			continue
		}
		l.Journal = append(l.Journal, extent.Span{Start: gap.Start, Count: n})
		l.JournalBlocks += n
		gap.Start, gap.Count = gap.Start+n, gap.Count-n
	}
	l.used = append(l.used, l.Journal...)
	if len(l.Journal) > 4 { // more than the inode has room for: a tree with one leaf
		i := slices.IndexFunc(free, func(gap extent.Span) bool { return gap.Count > 0 })
		if i >= 0 {
			l.journalLeaf = free[i].Start
			l.used = append(l.used, extent.Span{Start: l.journalLeaf, Count: 1})
		}
	}
	if most := (int(l.BlockSize) - 16) / 12; l.JournalBlocks < want || len(l.Journal) > most || len(l.Journal) > 4 && l.journalLeaf == 0 {
		return fmt.Errorf("%w: no room for a journal of %d blocks", fs.ErrTooSmall, want)
	}
	return nil
}

// allocator takes blocks in ascending order and steps over the base copies.
type allocator struct {
	at, end uint64
	base    []extent.Span
	spans   []extent.Span
	full    bool
}

// The copies of superblock and descriptors lie at fixed places in their groups, whatever
// else is there: a run that would touch one begins behind it, and the gap before stays
// free.
func (a *allocator) take(n uint64) uint64 {
	for _, b := range a.base {
		if b.Overlaps(extent.Span{Start: a.at, Count: n}) {
			a.at = b.End()
		}
	}
	start := a.at
	if a.end < start || a.end-start < n {
		a.full = true
		return start
	}
	a.at += n
	a.spans = append(a.spans, extent.Span{Start: start, Count: n})
	return start
}

func (a *allocator) taken() []extent.Span { return append(a.spans, a.base...) }

// usedIn gives the used spans of a group, relative to its start, and how many
// blocks the group has.
func (l *Layout) usedIn(g uint64) (spans []extent.Span, blocks uint64) {
	start := l.groupStart(g)
	blocks = min(l.BlocksPerGroup, l.Blocks-start)
	// The first span that ends behind the group's start: those before it are of no interest.
	i, _ := slices.BinarySearchFunc(l.used, start, func(s extent.Span, at uint64) int { return cmp.Compare(s.End(), at+1) })
	for ; i < len(l.used) && l.used[i].Start < start+blocks; i++ {
		from, to := max(l.used[i].Start, start), min(l.used[i].End(), start+blocks)
		spans = append(spans, extent.Span{Start: from - start, Count: to - from})
	}
	return spans, blocks
}

// uninitialised reports whether the kernel can compute the group's block
// bitmap: it holds nothing but its own copy of the descriptors. The last group
// is always written, since its end is not that of a whole group.
func (l *Layout) uninitialised(g uint64, used []extent.Span) bool {
	if g == 0 || g == l.Groups-1 {
		return false
	}
	if len(used) == 0 {
		return true
	}
	_, backup := slices.BinarySearch(l.backups, g)
	return backup && len(used) == 1 && used[0] == extent.Span{Count: l.baseBlocks()}
}
