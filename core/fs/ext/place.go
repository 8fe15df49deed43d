package ext

import (
	"cmp"
	"fmt"
	"slices"

	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/quantity"
)

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
	for from := uint64(0); from < l.Groups; from += l.flex {
		// All bitmaps of a flex group stand side by side: the kernel reads them ahead in
		// one go, and large files run on over the starts of the groups.
		to := min(from+l.flex, l.Groups)
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
			if !l.extents() { // so that its inode has room for the map
				l.lostFound.Count = min(l.lostFound.Count, directBlocks)
			}
			l.lostFound.Start = cursor.take(l.lostFound.Count)
			if l.ReservedGDT > 0 {
				l.resizeMap = cursor.take(1)
			}
		}
		if cursor.full {
			return fmt.Errorf("%w: %d blocks do not hold their own metadata; fewer inodes leave more space", fs.ErrTooSmall, l.Blocks)
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
	want, err := l.sizeJournal()
	if err != nil || want == 0 {
		return err
	}
	// From the start of a flex group: in its middle the journal would part what is packed.
	middle := l.groupStart(l.Groups / 2 / l.flex * l.flex)
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
	maps := l.mapBlocks()
	for i := 0; i < len(free) && uint64(len(l.journalMaps)) < maps; {
		gap := &free[i]
		if gap.Count == 0 {
			i++
			continue
		}
		l.journalMaps = append(l.journalMaps, gap.Start)
		l.used = append(l.used, extent.Span{Start: gap.Start, Count: 1})
		gap.Start, gap.Count = gap.Start+1, gap.Count-1
	}
	if l.JournalBlocks < want || uint64(len(l.journalMaps)) < maps || l.extents() && maps > inodeExtents {
		return fmt.Errorf("%w: no space for a journal of %d blocks", fs.ErrTooSmall, want)
	}
	return nil
}

// sizeJournal is how many blocks it has: as was asked, or as the size suggests; 0 for none,
// which ext3 is not without.
func (l *Layout) sizeJournal() (uint64, error) {
	asked := l.options.Journal
	switch {
	case asked == 0:
		return 0, nil
	case asked > 0:
		n := uint64((asked + l.BlockSize - 1) / l.BlockSize)
		if n < minJournal || n > l.Blocks/2 {
			return 0, fmt.Errorf("%w: journal=%v: here it takes %v to %v", fs.ErrSetting, asked,
				minJournal*l.BlockSize, l.BlockSize*quantity.Bytes(l.Blocks/2))
		}
		return n, nil
	}
	want := min(l.Blocks/journalShare, uint64(maxJournal/l.BlockSize))
	small := min(smallJournal/uint64(l.BlockSize), l.Blocks/16)
	want = max(want, minJournal, small)
	if want > l.Blocks/4 { // too small for one
		want = 0
	}
	if want == 0 && l.options.Variant == Ext3 {
		return 0, fmt.Errorf("%w: %d blocks have no space for a journal; ext2 has none", fs.ErrTooSmall, l.Blocks)
	}
	return want, nil
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

// uninitialised reports whether the kernel can compute the group's block bitmap, and believes
// it: it holds nothing but what it has by rights, which is its own copy of the descriptors
// and, without flexible groups, its own bitmaps and table. The last group is always written,
// since its end is not that of a whole group.
func (l *Layout) uninitialised(g uint64, used []extent.Span) bool {
	if g == 0 || g == l.Groups-1 || !l.options.Checksums {
		return false
	}
	own, all := uint64(0), uint64(0)
	if _, backup := slices.BinarySearch(l.backups, g); backup {
		own = l.baseBlocks()
	}
	here := extent.Span{Start: l.groupStart(g), Count: l.BlocksPerGroup}
	place := l.groups[g]
	for _, s := range []extent.Span{
		{Start: place.blockBitmap, Count: 1},
		{Start: place.inodeBitmap, Count: 1},
		{Start: place.inodeTable, Count: l.TableBlocks},
	} {
		if s.Overlaps(here) {
			own += s.Count
		}
	}
	for _, s := range used {
		all += s.Count
	}
	return all == own
}
