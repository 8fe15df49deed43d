package ext

import (
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

// Variant is one of the three that the format has: each has all that the one before has.
type Variant int

// The variants.
const (
	Ext2 Variant = 2 + iota
	Ext3         // with a journal
	Ext4         // with extents, and what needs them
)

func (v Variant) String() string { return fmt.Sprintf("ext%d", int(v)) }

// Options is what a new file system is made with; Usual has what they are where nobody asks.
type Options struct {
	Variant    Variant
	BlockSize  quantity.Bytes // 1024, 2048 or 4096; 0 for 4096, or 1024 below 512 MiB
	InodeSize  quantity.Bytes // a power of two from 128 to a block
	InodeEvery quantity.Bytes // one inode for so many bytes; 0: by the size
	Inodes     int64          // or so many, rounded up to what every group can have alike; 0: by InodeEvery
	Reserved   fs.Portion     // of the space, for ReservedUser and ReservedGroup alone
	// ReservedMost bounds a share that nobody asked for; 0: it does not.
	ReservedMost                quantity.Bytes
	ReservedUser, ReservedGroup int64
	Journal                     quantity.Bytes // 0: none; BySize: as the size is
	Checksums                   bool           // of the metadata
	FullTables                  bool           // tables of inodes are zeroed at once
	Flex                        int64          // groups that have their metadata together, a power of two; 0: each its own
	Wide                        bool           // block numbers of 64 bits
	Growth                      int64          // how many times as large it can become with descriptors in one place
	Unit, Width                 quantity.Bytes // of a stripe
	LargeDirectories, Seed      bool
	Checks                      Checks
	MountDefaults               string // options, as fstab has them
	RootUser, RootGroup         int64
	RootMode                    int64
	For                         int64 // the reader, as its setting has it

	Label         string // at most 16 bytes
	UUID          uuid.UUID
	Time          time.Time
	HashSeed      uuid.UUID // random: salts the directory hashes
	JournalUUID   uuid.UUID // random: keeps blocks of an earlier journal out
	FirstSequence uint32    // random, for the same reason
	Start         quantity.Bytes
	Sink          progress.Sink
}

// Checks say when a file system is looked through, and what comes of damage.
type Checks struct {
	AfterMounts int64 // 0: never
	Every       int64 // seconds; 0: never
	OnError     int64 // onContinue, onReadOnly or onPanic
}

// What to do when damage is found, as the superblock has it.
const (
	onContinue = 1
	onReadOnly = 2
	onPanic    = 3
)

// BySize is a journal as large as the size suggests.
const BySize quantity.Bytes = -1

// Usual are the options of a variant where nobody asks for others: on ext4 exactly what
// every boot loader reads and every Linux that is maintained.
func Usual(v Variant) Options {
	o := Options{
		Variant:   v,
		InodeSize: 256,
		// In thousandths. Of a large disk a twentieth would be more than any log of root fills:
		// hence the cap.
		Reserved:     fs.ShareOf(50),
		ReservedMost: 16 * quantity.GiB,
		Growth:       1024,
		// Without checksums the kernel takes every table for what stands in it, so that tables
		// have to be written. A variant with checksums turns this off below.
		FullTables: true,
		RootMode:   0o755,
		Checks:     Checks{OnError: onContinue},
	}
	if v >= Ext3 {
		o.Journal = BySize
	}
	if v >= Ext4 {
		o.Checksums, o.Wide, o.Flex, o.FullTables = true, true, 16, false
	}
	return o
}

// With gives the options a label, an identifier and the time of the making.
func (o Options) With(label string, id uuid.UUID, at time.Time) Options {
	o.Label, o.UUID, o.Time = label, id, at
	return o
}

// Limits and ratios of a new file system.
const (
	// An inode takes 256 bytes: one for each 16 KiB costs 1.6 % of the space, and is enough for
	// files of that size on average. On small disks one for each 4 KiB costs 6 %.
	bytesPerInode = 16384
	bytesPerSmall = 4096 // below smallBlocks: small disks hold small files
	minJournal    = 1024 // blocks; the least that the kernel accepts
	maxJournal    = 1 << 30
	smallJournal  = 4 << 20 // bytes; a transaction takes a quarter, and growing online needs some hundred blocks
	journalShare  = 128     // the journal takes 1/128 of the blocks
	// The length of an extent has 15 bits; the sixteenth marks blocks that are kept and not
	// written.
	maxExtent = 32768 // blocks
	// As long as it is empty a repair cannot give it blocks: so it gets four at once, for names
	// that are found.
	lostFoundSize = 16384 // bytes
	smallBlocks   = 512 << 20
	// At 64 TiB the descriptors of all groups, 64 bytes each, fill a quarter of a group, in each
	// of its copies.
	maxSize        = 64 << 40 // beyond, the descriptors fill their groups
	maxResizeBlock = 1 << 32  // resize_inode maps 32-bit block numbers
	leastBlocks    = 64
	// Seconds have 32 bits, signed; two more bits stand behind the first 128 bytes of an inode.
	lateSeconds = 1<<31 - 1 // the last that an inode of 128 bytes can have
)

// Layout is where everything of a new file system goes. Blocks are file-system blocks.
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
	JournalBlocks  uint64 // 0: none
	Journal        []extent.Span
	Reserved       uint64 // blocks for root
	Left           quantity.Bytes

	descSize    quantity.Bytes
	flex        uint64 // groups that have their metadata together
	groups      []groupPlace
	backups     []uint64 // groups
	used        []extent.Span
	root        uint64
	lostFound   extent.Span
	resizeMap   uint64   // the double-indirect block of the resize inode
	journalMaps []uint64 // blocks of the journal's map, none where the inode has room
	options     Options
	hinted      []string // settings that the device has chosen
}

type groupPlace struct{ blockBitmap, inodeBitmap, inodeTable uint64 }

// Plan works out the layout for a device of the given size. It is pure: the
// same arguments give the same layout. Errors: fs.ErrTooSmall, fs.ErrTooLarge,
// fs.ErrBlockSize, fs.ErrLabel, and fs.ErrSetting where what was asked for does not go
// together.
func Plan(size quantity.Bytes, geo block.Geometry, o Options) (*Layout, error) {
	if _, err := Fit(o.Label); err != nil {
		return nil, err
	}
	l := &Layout{options: o, flex: uint64(max(o.Flex, 1)), descSize: 32}
	if o.Wide {
		l.descSize = 64
	}
	if err := l.chooseBlock(size, geo); err != nil {
		return nil, err
	}
	if size > maxSize {
		return nil, fmt.Errorf("%w: %v; Fundus makes %v up to %v", fs.ErrTooLarge, size, o.Variant, quantity.Bytes(maxSize))
	}
	// A bitmap is one block, with a bit for each block of its group.
	l.Blocks, l.BlocksPerGroup = uint64(size/l.BlockSize), uint64(8*l.BlockSize)
	// The first KiB is the boot block: with blocks of that size it is block 0, and the superblock
	// is block 1.
	if l.BlockSize == 1024 {
		l.FirstData = 1
	}
	l.stripes(geo)
	if err := l.check(); err != nil {
		return nil, err
	}
	if err := l.sizeGroups(size); err != nil {
		return nil, err
	}
	if err := l.place(); err != nil {
		return nil, err
	}
	l.reserve()
	l.Left = size - quantity.Bytes(l.Blocks)*l.BlockSize
	return l, nil
}

func (l *Layout) chooseBlock(size quantity.Bytes, geo block.Geometry) error {
	b := l.options.BlockSize
	if b == 0 {
		b = 4096
		// Small disks hold small files, of which each wastes half a block.
		if size < smallBlocks {
			if geo.Physical > 1024 { // a smaller block would be read and written back within one sector
				l.hinted = append(l.hinted, "block")
			} else {
				b = 1024
			}
		}
	}
	if b != 1024 && b != 2048 && b != 4096 || int64(b) < geo.Logical {
		return fmt.Errorf("%w: %d bytes; %v takes 1024, 2048 or 4096, and at least the logical sector of %d",
			fs.ErrBlockSize, b, l.options.Variant, geo.Logical)
	}
	l.BlockSize, l.options.BlockSize = b, b
	return nil
}

// stripes takes the stripe that was asked for, or the device's where that is believable.
func (l *Layout) stripes(geo block.Geometry) {
	o := &l.options
	if o.Unit == 0 && o.Width == 0 {
		if unit, width := fs.Stripe(geo, o.Start); unit > 0 && unit%l.BlockSize == 0 {
			o.Unit, o.Width = unit, width
			l.hinted = append(l.hinted, "stripe-unit", "stripe-width")
		}
	}
	if o.Unit == 0 {
		o.Unit = o.Width
	}
	if o.Width == 0 {
		o.Width = o.Unit
	}
}

// check refuses what does not go together.
func (l *Layout) check() error {
	o, bad := l.options, func(format string, args ...any) error {
		return fmt.Errorf("%w: "+format, append([]any{fs.ErrSetting}, args...)...)
	}
	switch {
	case o.InodeSize > l.BlockSize:
		return bad("inode-size=%v: an inode is at most a block, of %v", o.InodeSize, l.BlockSize)
	case o.InodeSize == 128 && o.Time.Unix() > lateSeconds:
		return bad("inode-size=128B: it is %v, and times in such inodes end in 2038", o.Time.Format(time.DateOnly))
	case o.Inodes > 0 && o.InodeEvery > 0:
		return bad("inode-count and inode-every are two words for the same; say one")
	case o.Journal == 0 && o.Variant == Ext3:
		return bad("journal=no: ext3 without a journal is ext2")
	// The flag that a table was not written is believed only where the descriptor that has it is
	// summed.
	case !o.FullTables && !o.Checksums:
		return bad("tables=lazy needs checksums=yes: without them the kernel believes no table that was not written")
	case o.Seed && !o.Checksums:
		return bad("checksum-seed=yes needs checksums=yes")
	case !o.Wide && l.Blocks > maxResizeBlock-1:
		return fmt.Errorf("%w: %d blocks of %v; %v without wide-numbers has at most %d", fs.ErrTooLarge, l.Blocks,
			l.BlockSize, o.Variant, uint64(maxResizeBlock-1))
	}
	if _, share := o.Reserved.Share(); !share && o.Reserved.Of(l.Blocks, l.BlockSize) > l.Blocks/2 {
		return bad("reserved=%v: it is at most half of the space", quantity.Bytes(o.Reserved))
	}
	return checkStripe(o.Unit, o.Width, l.BlockSize)
}

// checkStripe: the superblock counts both in blocks, the unit in 16 bits.
func checkStripe(unit, width, blockSize quantity.Bytes) error {
	if unit%blockSize != 0 || unit > 0 && width%unit != 0 || unit/blockSize > 1<<16-1 {
		return fmt.Errorf("%w: stripe-unit=%v, stripe-width=%v: the unit is a multiple of the block of %v, at most %d blocks, and the width a multiple of the unit",
			fs.ErrSetting, unit, width, blockSize, 1<<16-1)
	}
	return nil
}

// sizeGroups works out the counts and leaves out a last group that is too
// short for its own metadata. Leaving one out changes the number of groups, and with it
// the inodes of each and the blocks kept for descriptors: hence the loop, which ends since
// each turn has fewer blocks.
func (l *Layout) sizeGroups(size quantity.Bytes) error {
	for {
		if l.Blocks < l.FirstData+leastBlocks {
			return fmt.Errorf("%w: %d bytes; %v needs about 256 KiB", fs.ErrTooSmall, size, l.options.Variant)
		}
		l.Groups = (l.Blocks - l.FirstData + l.BlocksPerGroup - 1) / l.BlocksPerGroup
		perBlock := uint64(l.BlockSize / l.descSize)
		l.DescBlocks = (l.Groups + perBlock - 1) / perBlock
		l.reserveDescriptors(perBlock)
		// In each group with a copy the superblock and all descriptors stand first, and files
		// need room behind them.
		if l.Groups > 1 && l.baseBlocks() > l.BlocksPerGroup/2 {
			return fmt.Errorf("%w in blocks of %d bytes: the group descriptors would fill their groups; block=4KiB has space",
				fs.ErrTooLarge, l.BlockSize)
		}
		if err := l.countInodes(); err != nil {
			return err
		}
		l.backups = backupGroups(l.Groups, true)
		last := l.Groups - 1
		size := l.Blocks - l.FirstData - last*l.BlocksPerGroup
		// A single group is short as it is; a last one needs room for what it must hold and for
		// some files.
		if last == 0 || size >= l.flexNeed(last/l.flex*l.flex, last)+leastBlocks {
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
	// Block numbers beyond 32 bits do not fit the map of the resize inode.
	if l.Blocks >= maxResizeBlock {
		return
	}
	most := min(l.Blocks*uint64(max(l.options.Growth, 1)), maxResizeBlock-1)
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
// bytes at the most. Inode numbers have 32 bits, whatever the size. A group has at least
// the inodes that are in use from the start: they are marked in the first group alone.
func (l *Layout) countInodes() error {
	o := l.options
	perBlock := uint64(l.BlockSize / o.InodeSize)
	step := max(perBlock, 8)
	size := l.Blocks * uint64(l.BlockSize)
	every := uint64(o.InodeEvery)
	if every == 0 {
		every = bytesPerInode
		if size < smallBlocks {
			every = bytesPerSmall
		}
	}
	wanted := max(size/every, 16)
	if o.Inodes > 0 {
		wanted = max(uint64(o.Inodes), 16)
	}
	n := (wanted + l.Groups - 1) / l.Groups
	n = (max(n, firstInode) + step - 1) / step * step
	most := 8 * uint64(l.BlockSize)
	// Inode numbers have 32 bits.
	for most*l.Groups > 1<<32-1 {
		most -= step
	}
	if n > most && (o.Inodes > 0 || o.InodeEvery > 0) {
		return fmt.Errorf("%w: %d inodes: there can be %d here, %d in each of %d groups", fs.ErrSetting, wanted,
			most*l.Groups, most, l.Groups)
	}
	l.InodesPerGroup = min(n, most)
	l.TableBlocks = l.InodesPerGroup / perBlock
	return nil
}

// reserve counts what is kept for the owners of the reserve.
func (l *Layout) reserve() {
	o := l.options
	l.Reserved = o.Reserved.Of(l.Blocks, l.BlockSize)
	if most := uint64(o.ReservedMost / l.BlockSize); most > 0 && l.Reserved > most {
		l.Reserved = most
	}
}

// groupStart is the first block of a group. With blocks of 1 KiB the boot block has one of
// its own, so that groups begin at block 1.
func (l *Layout) groupStart(g uint64) uint64 { return l.FirstData + g*l.BlocksPerGroup }
