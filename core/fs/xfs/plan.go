package xfs

import (
	"fmt"
	"math/bits"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/progress"
	"fundus/core/quantity"
)

// Options is what a new XFS is made with. A size or count of 0 is chosen by the device.
type Options struct {
	Block      quantity.Bytes // 1024, 2048 or 4096
	Sector     quantity.Bytes // 512 or 4096, at least the device's logical one
	Inode      quantity.Bytes // 512 to half a block
	Groups     int64
	GroupSize  quantity.Bytes
	Log        quantity.Bytes
	LogUnit    quantity.Bytes // the log is written in multiples of it
	Unit       quantity.Bytes // of a stripe
	Width      quantity.Bytes
	InodeShare int64          // percent of the space; negative for what fits
	Directory  quantity.Bytes // block of a directory; 0 for Block

	FreeInodeTree, SparseInodes, ReverseMap, SharedBlocks bool
	InodeCounts, LateTimes, LargeExtentCounts             bool

	RootUser, RootGroup int64
	RootMode            int64
	For                 int64 // the reader, as its setting has it

	Label string // at most 12 bytes
	UUID  uuid.UUID
	// MetaUUID is what the metadata carries. It is another one than UUID wherever that may
	// have been on the device before: blocks of the former file system that still lie there
	// would be taken for newer ones at the replay of the log.
	MetaUUID uuid.UUID
	Seed     [32]byte // of the inodes' generations
	Flash    bool     // nothing turns: many places are written at once
	Start    quantity.Bytes
	Time     time.Time
	Sink     progress.Sink
}

// Limits, in bytes but where it says otherwise.
const (
	// The kernel refuses groups below 16 MiB (XFS_MIN_AG_BYTES in xfs_sb.c). Of 64 MiB the least
	// log takes a third already: below that there would be more of the file system than of files.
	leastSize  = 64 * quantity.MiB
	leastGroup = 16 * quantity.MiB
	mostMade   = 1 << 16 // groups; each has headers and trees of its own, which are written at making and read at a mount
	// The kernel counts blocks of a group in 32 bits, and XFS_MAX_AG_BYTES is 1 TiB.
	mostGroup = quantity.TiB
	// Minima of the log are no smooth function of what is made; these are above the largest
	// that the kernel was seen to ask for, with a log unit up to smallUnit and above.
	leastLog     = 20 * quantity.MiB
	leastWideLog = 32 * quantity.MiB
	smallUnit    = 64 * quantity.KiB
	usualLog     = 32 * quantity.MiB
	mostUsualLog = 512 * quantity.MiB
	mostLog      = 2*quantity.GiB - 10*quantity.MiB
	mostLogCount = 1 << 20 // blocks
	mostLogUnit  = 256 * quantity.KiB
	logShare     = 512 // the log takes one of so many bytes

	// Few groups keep a disk that turns from moving its head between them; each one more lets
	// another file grow at the same time.
	fewGroups   = 4
	manyGroups  = 16 // from manyFrom on, where many places are written at once
	manyFrom    = 64 * quantity.GiB
	restOfGroup = 64 // blocks that the log leaves of its group
	inodesMade  = 64
)

// Layout is where everything of a new XFS goes, in blocks.
type Layout struct {
	options     Options
	Block       quantity.Bytes
	Sector      quantity.Bytes
	Inode       quantity.Bytes
	Blocks      uint64
	Groups      uint64
	GroupBlocks uint64 // the last group may be shorter
	LogBlocks   uint64
	LogGroup    uint64
	logAt       uint64 // in its group
	chunkAt     uint64 // of the first inodes, in group 0
	chunk       uint64 // blocks
	fixed       uint64 // blocks of headers and roots in each group
	list        uint64 // blocks of the list of free ones in each group
	unit, width uint64
	logUnit     quantity.Bytes
	Left        quantity.Bytes // of the device, not used
	hinted      []string       // settings that the device has chosen
}

// Plan works out the layout for a device; the same arguments give the same one. Errors:
// fs.ErrTooSmall, fs.ErrTooLarge, fs.ErrBlockSize, fs.ErrLabel, and fs.ErrSetting where what
// was asked for does not go together.
func Plan(size quantity.Bytes, geo block.Geometry, o Options) (*Layout, error) {
	if _, err := Fit(o.Label); err != nil {
		return nil, err
	}
	if size < leastSize {
		return nil, fmt.Errorf("%w: XFS takes %v at least, and this is %v", fs.ErrTooSmall, leastSize, size)
	}
	if !o.LateTimes && o.Time.Unix() >= timeBase {
		return nil, fmt.Errorf("%w: late-times=no: it is %v, and times without them end in 2038", fs.ErrSetting,
			o.Time.Format(time.DateOnly))
	}
	l := &Layout{options: o}
	if err := l.units(geo); err != nil {
		return nil, err
	}
	l.Blocks = uint64(size / l.Block)
	l.stripes(geo)
	if err := l.checkUnits(); err != nil {
		return nil, err
	}
	l.sizeLog()
	l.fixed = l.firstTree() + l.trees()
	// The kernel fills the list up to this length at the first change (xfs_alloc_min_freelist),
	// and writes less at the first mount where it is so already.
	l.list = 4 // two for each tree of free space, and two for the reverse map's
	if o.ReverseMap {
		l.list += 2
	}
	l.chunk = uint64(inodesMade * l.Inode / l.Block)
	if err := l.sizeGroups(); err != nil {
		return nil, err
	}
	if err := l.place(); err != nil {
		return nil, err
	}
	l.Left = size - quantity.Bytes(l.Blocks)*l.Block
	return l, nil
}

// units chooses block, sector and inode.
func (l *Layout) units(geo block.Geometry) error {
	o := &l.options
	logical := quantity.Bytes(max(geo.Logical, 512))
	l.Block = choose(o.Block, 4096)
	if l.Block < logical {
		return fmt.Errorf("%w: %d bytes; a block is at least a logical sector of the device, which has %d",
			fs.ErrBlockSize, l.Block, logical)
	}
	l.Sector = o.Sector
	if l.Sector == 0 {
		l.Sector = logical
		// A device of 512 bytes that writes 4096 reads, changes and writes for each header of
		// 512: headers get what it writes whole.
		if geo.Physical == 4096 && l.Block >= 4096 && logical < 4096 {
			l.Sector = 4096
			l.hinted = append(l.hinted, "sector")
		}
	}
	switch {
	case l.Sector < logical:
		return fmt.Errorf("%w: sector=%v: the device has sectors of %d bytes", fs.ErrSetting, l.Sector, logical)
	case l.Sector > l.Block:
		return fmt.Errorf("%w: sector=%v: a sector is at most a block, of %v", fs.ErrSetting, l.Sector, l.Block)
	}
	l.Inode = choose(o.Inode, 512)
	if l.Inode > l.Block/2 {
		return fmt.Errorf("%w: inode-size=%v: an inode is at most half a block, of %v", fs.ErrSetting, l.Inode, l.Block)
	}
	return nil
}

// choose is what was asked for, else what is usual: 0 is no value of any of these settings.
func choose[N int64 | quantity.Bytes](asked, usual N) N {
	if asked == 0 {
		return usual
	}
	return asked
}

// stripes takes the stripe that was asked for, or the device's where that is believable.
func (l *Layout) stripes(geo block.Geometry) {
	o := &l.options
	if o.Unit == 0 && o.Width == 0 {
		// What a device says of its stripe is taken where it is a multiple of the block: adapters
		// report the longest request that they take, of 65535 sectors, as if it were one.
		unit, width := fs.Stripe(geo, o.Start)
		if unit%l.Block == 0 && unit > 0 {
			o.Unit, o.Width = unit, width
			l.hinted = append(l.hinted, "stripe-unit", "stripe-width")
		}
	}
	o.Unit, o.Width = choose(o.Unit, o.Width), choose(o.Width, o.Unit)
	l.unit, l.width = uint64(o.Unit/l.Block), uint64(o.Width/l.Block)
	l.logUnit = o.LogUnit
	if l.logUnit == 0 && l.unit > 0 {
		l.logUnit = 32 * quantity.KiB
		if o.Unit <= mostLogUnit && o.Unit&(o.Unit-1) == 0 {
			l.logUnit = o.Unit
		}
	}
	if l.logUnit == 0 && l.Sector > 512 {
		l.logUnit = max(l.Sector, l.Block)
	}
}

// checkUnits refuses what does not go together, and what the kernel would take and then trip over.
func (l *Layout) checkUnits() error {
	o := l.options
	switch {
	case o.Unit%l.Block != 0 || o.Unit > 0 && o.Width%o.Unit != 0:
		return fmt.Errorf("%w: stripe-unit=%v, stripe-width=%v: the unit is a multiple of the block of %v, and the width of the unit",
			fs.ErrSetting, o.Unit, o.Width, l.Block)
	case l.logUnit > 0 && l.logUnit < l.Block || l.logUnit&(l.logUnit-1) != 0 || l.logUnit > mostLogUnit:
		// Others are mounted once: what the kernel writes then does not fill whole units, and
		// is torn at the second mount.
		return fmt.Errorf("%w: log-unit=%v: it is a power of two from the block of %v to %v", fs.ErrSetting, l.logUnit,
			l.Block, mostLogUnit)
	case o.Directory > 0 && o.Directory < l.Block:
		return fmt.Errorf("%w: directory-block=%v: it is at least a block, of %v", fs.ErrSetting, o.Directory, l.Block)
	case o.InodeCounts && !o.FreeInodeTree:
		return fmt.Errorf("%w: inode-counts=yes needs free-inode-tree=yes", fs.ErrSetting)
	}
	return nil
}

// sizeLog chooses the size of the log: one of logShare bytes, and little more than the
// kernel asks for where the device is small.
func (l *Layout) sizeLog() {
	size := quantity.Bytes(l.Blocks) * l.Block
	log := l.options.Log
	if log == 0 {
		// Eight units are as many as the kernel has buffers, each of which may be on its way to
		// the disk.
		log = max(min(max(size/logShare, usualLog), mostUsualLog), 8*l.logUnit)
		group := choose(l.options.GroupSize, size/quantity.Bytes(max(l.options.Groups, 1)))
		// Where that would be too much of the device or of its group, it gets the least that
		// works.
		if log > size/4 || log > group/2 {
			log = l.leastLog()
		}
	}
	step := max(l.Block, l.logUnit)
	l.LogBlocks = uint64((log + step - 1) / step * step / l.Block)
}

// leastLog is how small the kernel lets a log be: it reserves room for the largest transaction in
// whole units, so that wide units need more.
func (l *Layout) leastLog() quantity.Bytes {
	if l.logUnit > smallUnit {
		return leastWideLog
	}
	return leastLog
}

// sizeGroups divides the device into groups of the same size, and leaves out a last one that
// would be too short to be of use.
func (l *Layout) sizeGroups() error {
	o := l.options
	log := quantity.Bytes(l.LogBlocks) * l.Block
	size := quantity.Bytes(l.Blocks) * l.Block
	least := max(leastGroup, quantity.Bytes(l.LogBlocks+l.fixed+l.list+restOfGroup)*l.Block)
	switch {
	case log < l.leastLog() || log > mostLog || l.LogBlocks > mostLogCount:
		most := min(mostLog, mostLogCount*l.Block)
		return fmt.Errorf("%w: log=%v: it takes %v to %v here", fs.ErrSetting, log, l.leastLog(), most)
	case o.GroupSize > size:
		return fmt.Errorf("%w: group-size=%v: the device has %v", fs.ErrSetting, o.GroupSize, size)
	case o.Groups > 0 && o.GroupSize > 0:
		return fmt.Errorf("%w: group-count and group-size are two words for the same; say one", fs.ErrSetting)
	}
	group := uint64(o.GroupSize / l.Block)
	if group == 0 {
		count := uint64(choose(o.Groups, int64(l.usualGroups(size, log))))
		group = (l.Blocks + count - 1) / count
	}
	if l.unit > 0 { // the headers of all groups are not to lie on the same member
		group = (group + l.unit - 1) / l.unit * l.unit
		if group%l.width == 0 && l.width > l.unit {
			group -= l.unit
		}
	}
	if bytes := quantity.Bytes(group) * l.Block; bytes < min(least, size) || bytes > mostGroup {
		return fmt.Errorf("%w: groups of %v: they have %v to %v here", fs.ErrSetting, bytes, least, mostGroup)
	}
	l.GroupBlocks = min(group, l.Blocks)
	l.Groups = (l.Blocks + l.GroupBlocks - 1) / l.GroupBlocks
	if l.Groups > mostMade {
		least, _ := (size / mostMade).Up(l.Block)
		return fmt.Errorf("%w: groups of %v: that would be %d of them, each with headers and trees of its own; at most %d, of %v at least",
			fs.ErrSetting, quantity.Bytes(l.GroupBlocks)*l.Block, l.Groups, mostMade, least)
	}
	// The kernel would take a last group of 64 blocks; below 16 MiB it would be headers and trees
	// for next to nothing. Its blocks are left to nobody, and the draft says how many.
	if last := l.Blocks - (l.Groups-1)*l.GroupBlocks; l.Groups > 1 && last < uint64(leastGroup/l.Block) {
		l.Blocks -= last
		l.Groups--
	}
	return nil
}

// usualGroups is how many groups a device gets that nobody said anything of: few, since each costs
// headers and trees of its own; more where many places are written at once, so that writers do not
// wait for each other; and never so many that one would be smaller than two logs.
func (l *Layout) usualGroups(size, log quantity.Bytes) quantity.Bytes {
	count := quantity.Bytes(fewGroups)
	if size >= manyFrom && (l.options.Flash || l.unit > 0) {
		count = manyGroups
	}
	count = max(1, min(count, size/max(leastGroup, 2*log)))
	return max(count, (size+mostGroup-1)/mostGroup)
}

// firstTree is the block of a group behind its headers, of four sectors.
func (l *Layout) firstTree() uint64 { return uint64((4*l.Sector + l.Block - 1) / l.Block) }

// trees is how many trees a group has, each of one block.
func (l *Layout) trees() uint64 {
	n := uint64(3)
	for _, on := range []bool{l.options.FreeInodeTree, l.options.ReverseMap, l.options.SharedBlocks} {
		if on {
			n++
		}
	}
	return n
}

// place puts the log into the middle group, and the first inodes where the kernel looks for
// them: behind what a group begins with, its list of free blocks, and the log where that is
// in the group too (xfs_ialloc_calc_rootino in fs/xfs/libxfs/xfs_ialloc.c of Linux).
func (l *Layout) place() error {
	// In the middle, since it is written with every change: the way to it is the shortest on
	// average.
	l.LogGroup = l.Groups / 2
	l.logAt = l.fixed
	if l.unit > 0 {
		l.logAt = roundUp(l.fixed, l.unit)
	}
	l.chunkAt = l.fixed + l.list
	// The kernel works the place of the first inodes out anew from the sizes alone, and refuses a
	// root directory elsewhere: what follows is that rule, step by step.
	if l.LogGroup == 0 {
		l.chunkAt = max(l.chunkAt+l.LogBlocks, l.logAt+l.LogBlocks)
	}
	if end := l.listAt(0) + l.list; l.chunkAt < end {
		l.chunkAt = end
	}
	align := l.inodeAlign()
	if l.unit > 0 && l.unit%align == 0 {
		align = l.unit
	}
	l.chunkAt = roundUp(l.chunkAt, align)
	for group, end := range map[uint64]uint64{0: l.chunkAt + l.chunk, l.LogGroup: l.logAt + l.LogBlocks + l.list} {
		if has := l.sizeOf(group); end+restOfGroup > has {
			return fmt.Errorf("%w: group %d has %d blocks, and needs %d for what is in it; fewer groups or a smaller log have space",
				fs.ErrSetting, group, has, end+restOfGroup)
		}
	}
	return nil
}

func roundUp(n, to uint64) uint64 { return (n + to - 1) / to * to }

// inodeAlign is the alignment of 64 inodes, in blocks.
func (l *Layout) inodeAlign() uint64 {
	// With sparse chunks the alignment is a whole chunk, so that half of one may be made at its
	// right place; without them that of a cluster is enough.
	if l.options.SparseInodes {
		return l.chunk
	}
	return max(l.cluster(), 1)
}

// cluster is how many blocks of inodes are read and written at once.
func (l *Layout) cluster() uint64 { return uint64(8192 * (l.Inode / 256) / l.Block) }

// sizeOf is the number of blocks of a group.
func (l *Layout) sizeOf(group uint64) uint64 {
	return min(l.GroupBlocks, l.Blocks-group*l.GroupBlocks)
}

// listAt is where the blocks of a group's list of free ones lie: right behind its roots, or
// behind the log where that does not leave room for them.
func (l *Layout) listAt(group uint64) uint64 {
	if group == l.LogGroup && l.logAt-l.fixed < l.list {
		return l.logAt + l.LogBlocks
	}
	return l.fixed
}

// used lists what of a group is not free, in order.
func (l *Layout) used(group uint64) []extent.Span {
	list := []extent.Span{{Count: l.fixed}, {Start: l.listAt(group), Count: l.list}}
	if group == l.LogGroup {
		list = append(list, extent.Span{Start: l.logAt, Count: l.LogBlocks})
	}
	if group == 0 {
		list = append(list, extent.Span{Start: l.chunkAt, Count: l.chunk})
	}
	return list
}

// free lists what of a group is free; pieces that touch are one.
func (l *Layout) free(group uint64) []extent.Span {
	return extent.Gaps(extent.Span{Count: l.sizeOf(group)}, l.used(group))
}

// Free is the number of free blocks, those on the lists included, as the superblock counts
// them.
func (l *Layout) Free() (sum uint64) {
	taken := l.Groups*l.fixed + l.LogBlocks + l.chunk
	// The lists count as free, since the kernel may give their blocks away, although no tree of
	// free space holds them.
	return l.Blocks - taken
}

// log2 is the power of two that the superblock keeps beside a size, rounded up.
func log2(n uint64) uint8 { return uint8(bits.Len64(n - 1)) }
