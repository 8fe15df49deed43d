package ext

import (
	"context"
	"encoding/binary"
	"math/bits"
	"sync"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/quantity"
)

// Make writes a new file system onto the device, the primary superblock last and
// behind a sync of its own. The first KiB is zeroed. Other signatures are the
// caller's to remove.
func Make(ctx context.Context, dev block.Device, o Options) (*Layout, error) {
	l, err := Plan(quantity.Bytes(dev.Size()), dev.Geometry(), o)
	if err != nil {
		return nil, err
	}
	return l, l.Write(ctx, dev)
}

// Write carries the layout out. Where the context ends on the way the superblock is not
// written, and nothing takes what is there for a file system.
//
// The order is that of trust: what nothing refers to yet comes first, the superblock, which
// makes a file system of it all, last. So a power cut leaves a device that holds nothing, or all
// of it; that the old signatures are gone before is the caller's part.
func (l *Layout) Write(ctx context.Context, dev block.Device) error {
	w := &maker{Layout: l, Writer: block.NewWriter(ctx, dev), seed: crc(^uint32(0), l.options.UUID[:])}
	var double, singles []byte
	var beside sync.WaitGroup
	if l.ReservedGDT > 0 { // megabytes that nobody touched yet: half of the time
		beside.Go(func() { double, singles = w.resizeBlocks() })
	}
	descriptors := w.groupsAndBitmaps() // counts the free blocks, which the superblocks need
	w.tables()
	w.inodes()
	w.directories()
	w.journal()
	if beside.Wait(); l.ReservedGDT > 0 {
		w.put(l.FirstData+1+l.DescBlocks, singles)
		w.put(l.resizeMap, double)
	}
	for _, g := range l.backups {
		at := l.groupStart(g)
		w.put(at, w.superblock(g))
		w.put(at+1, descriptors)
	}
	first := make([]byte, superOffset)
	if l.FirstData == 0 {
		w.put(1, descriptors)
	} else {
		w.put(2, descriptors)
	}
	// Until here nothing takes the device for a file system; and once the superblock is there,
	// all that it speaks of has reached the disk.
	w.Sync()
	w.Put(first, 0)
	w.Put(w.superblock(0), superOffset)
	w.Sync()
	return w.Err()
}

// maker writes one file system; it keeps the first error.
type maker struct {
	*Layout
	*block.Writer
	seed       uint32
	freeBlocks uint64
	mapped     []byte // see journalMap
	beside     []mapBlock
}

// put writes whole blocks: what is shorter is padded with zeros.
func (w *maker) put(at uint64, p []byte) {
	size := int(w.BlockSize)
	if rest := len(p) % size; rest != 0 {
		p = append(p[:len(p):len(p)], make([]byte, size-rest)...)
	}
	w.Put(p, int64(at)*int64(size))
}

// groupsAndBitmaps writes the bitmaps of initialised groups and gives all
// descriptors.
//
// A group that holds nothing of its own is not written: its descriptor says that the kernel
// may work the bitmap out, which it does when it first allocates there. That is what makes
// a large file system in seconds; without checksums on the descriptors the kernel would not
// believe the flag, and everything has to be written.
func (w *maker) groupsAndBitmaps() []byte {
	descriptors := make([]byte, 0, w.DescBlocks*uint64(w.BlockSize))
	for g := range w.Groups {
		if g%4096 == 0 { // some milliseconds
			w.options.Sink.Send("block groups", quantity.Bytes(g*w.BlocksPerGroup)*w.BlockSize, quantity.Bytes(w.Blocks)*w.BlockSize)
		}
		var d descriptor
		used, blocks := w.usedIn(g)
		free := blocks
		for _, s := range used {
			free -= s.Count
		}
		w.freeBlocks += free
		if w.uninitialised(g, used) {
			d.Flags |= blockUninit
		} else {
			bitmap := w.bitmap(used, blocks)
			w.put(w.groups[g].blockBitmap, bitmap)
			d.BlockSumLo, d.BlockSumHi = w.sum(bitmap[:w.BlocksPerGroup/8])
		}
		freeInodes := w.InodesPerGroup
		if g == 0 {
			freeInodes -= firstInode
			d.DirectoriesLo = 2
		}
		if g == 0 || !w.options.Checksums {
			bitmap := w.bitmap([]extent.Span{{Start: 0, Count: w.InodesPerGroup - freeInodes}}, w.InodesPerGroup)
			w.put(w.groups[g].inodeBitmap, bitmap)
			d.InodeSumLo, d.InodeSumHi = w.sum(bitmap[:w.InodesPerGroup/8])
		} else {
			d.Flags |= inodeUninit
		}
		if w.options.FullTables && w.options.Checksums {
			d.Flags |= tableZeroed
		}
		descriptors = append(descriptors, w.descriptor(d, g, free, freeInodes)...)
	}
	return descriptors
}

// sum is the checksum of a bitmap; nothing where there are none.
func (w *maker) sum(bitmap []byte) (lo, hi uint16) {
	if !w.options.Checksums {
		return 0, 0
	}
	return short(crc(w.seed, bitmap))
}

// descriptor completes and encodes that of the group.
func (w *maker) descriptor(d descriptor, g uint64, free, freeInodes uint64) []byte {
	le, place := binary.LittleEndian, w.groups[g]
	d.BlockBitmapLo, d.BlockBitmapHi = halves(place.blockBitmap)
	d.InodeBitmapLo, d.InodeBitmapHi = halves(place.inodeBitmap)
	d.InodeTableLo, d.InodeTableHi = halves(place.inodeTable)
	// A flex group's tables may fill whole groups: their free counts are zero then, and
	// that is no error.
	d.FreeBlocksLo, d.FreeBlocksHi = short(uint32(free))
	d.FreeInodesLo, d.FreeInodesHi = short(uint32(freeInodes))
	if w.options.Checksums {
		// The kernel leaves out the end of an inode table that was never used, and zeroes it
		// after the first mount; what is counted here as unused must never have been written
		// to.
		d.UnusedLo, d.UnusedHi = short(uint32(freeInodes)) // none was ever in use
	}
	if !w.options.Wide {
		d.descriptorWide = descriptorWide{} // the high halves of checksums too
	}
	b := d.encode()[:w.descSize]
	if w.options.Checksums {
		sum := crc(w.seed, le.AppendUint32(nil, uint32(g)))
		le.PutUint16(b[descriptorSumAt:], uint16(crc(sum, b))) // over its own two bytes as zeros
	}
	return b
}

// tables zeroes the tables of inodes, where that is not left to the kernel: those of a flex
// group lie together. The first inodes come over them later.
func (w *maker) tables() {
	if !w.options.FullTables {
		return
	}
	whole := quantity.Bytes(w.Groups*w.TableBlocks) * w.BlockSize
	for from := uint64(0); from < w.Groups; {
		run := extent.Span{Start: w.groups[from].inodeTable}
		to := from
		for to < w.Groups && w.groups[to].inodeTable == run.End() {
			run.Count += w.TableBlocks
			to++
		}
		if from%4096 == 0 {
			w.options.Sink.Send("tables of inodes", quantity.Bytes(from*w.TableBlocks)*w.BlockSize, whole)
		}
		w.Zero(int64(run.Start)*int64(w.BlockSize), int64(run.Count)*int64(w.BlockSize))
		from = to
	}
}

// short are the halves of a number of 32 bits.
func short(n uint32) (lo, hi uint16) { return uint16(n), uint16(n >> 16) }

// bitmap is that of a group.
func (w *maker) bitmap(used []extent.Span, count uint64) []byte {
	return bitmapOf(w.BlockSize, used, count)
}

// bitmapOf is a block with the bits of the spans set, and all bits behind count.
//
// A set bit is a block that is taken. The last group is shorter than its bitmap: what lies
// behind the end of the file system must be taken too, or the kernel would give it to a
// file.
func bitmapOf(size quantity.Bytes, used []extent.Span, count uint64) []byte {
	b := make([]byte, size)
	for _, s := range used {
		setBits(b, s.Start, s.End())
	}
	setBits(b, count, 8*uint64(len(b))) // what does not exist is never free
	return b
}

func setBits(b []byte, from, to uint64) {
	for ; from < to && from%8 != 0; from++ {
		b[from/8] |= 1 << (from % 8)
	}
	for ; from+8 <= to; from += 8 {
		b[from/8] = 0xFF
	}
	for ; from < to; from++ {
		b[from/8] |= 1 << (from % 8)
	}
}

// superblock gives the 1024 bytes of the copy in the group.
func (w *maker) superblock(group uint64) []byte {
	o, le := w.options, binary.LittleEndian
	var d super
	d.Inodes, d.FreeInodes = uint32(w.InodesPerGroup*w.Groups), uint32(w.InodesPerGroup*w.Groups-firstInode)
	d.BlocksLo, d.BlocksHi = halves(w.Blocks)
	d.ReservedLo, d.ReservedHi = halves(w.Reserved)
	d.FreeLo, d.FreeHi = halves(w.freeBlocks)
	d.FirstData, d.BlocksPerGroup, d.ClustersPerGroup, d.InodesPerGroup = uint32(w.FirstData), uint32(w.BlocksPerGroup), uint32(w.BlocksPerGroup), uint32(w.InodesPerGroup)
	d.LogBlock = uint32(w.BlockSize / 2048) // 1024, 2048, 4096: 0, 1, 2
	d.LogCluster = d.LogBlock
	d.Magic, d.Revision, d.State = magicExt, 1, 1 // clean
	d.FirstInode, d.InodeSize = firstInode, uint16(o.InodeSize)
	d.GroupNumber, d.ReservedGDT = uint16(group), uint16(w.ReservedGDT)
	if o.Wide { // else its size is what it always was
		d.DescSize = uint16(w.descSize)
	}
	d.Compat, d.Incompat, d.RO = w.features()
	if d.RO&roExtraIsize != 0 {
		// The kernel keeps the extra bytes of every inode free of attributes: there is room
		// for nanoseconds, checksum and project for good.
		d.MinExtra, d.WantExtra = extraSize, extraSize
	}
	d.MountDefaults = 0xC // user_xattr, acl
	d.Flags = 1           // signed directory hash: characters as x86 has them, on every machine
	d.HashVersion = 1
	if o.Flex > 0 {
		d.LogFlex = uint8(bits.Len64(uint64(o.Flex)) - 1)
	}
	if o.Checksums {
		d.ChecksumType = 1
	}
	if o.Seed {
		d.ChecksumSeed = w.seed
	}
	d.UUID, d.HashSeed = o.UUID, o.HashSeed
	copy(d.Label[:], o.Label)
	d.WriteTime, d.WriteTimeHi = stamp(o.Time)
	d.MakeTime, d.MakeTimeHi = stamp(o.Time)
	d.CheckTime, d.CheckTimeHi = stamp(o.Time)
	d.wish(&o)
	if w.JournalBlocks > 0 {
		d.JournalInode, d.JournalBackup = journalInode, 1
		// A copy of the journal's map: it is found again where its inode is damaged. Behind
		// it stand the halves of its size, the high one first.
		inInode, _ := w.journalMap()
		copy(d.JournalMap[:mapBytes], inInode)
		lo, hi := halves(w.JournalBlocks * uint64(w.BlockSize))
		le.PutUint32(d.JournalMap[mapBytes:], hi)
		le.PutUint32(d.JournalMap[mapBytes+4:], lo)
	}
	s := Superblock{RO: d.RO, disk: d}
	return s.sealed()
}

// features are the bits of a new file system. Incompatible ones keep a kernel away that does
// not know them; read-only ones let it read. On what is not ext4 there is nothing that the
// older drivers do not know.
func (l *Layout) features() (compat, incompat, ro uint32) {
	o := l.options
	compat, incompat, ro = compatExtAttr|compatDirIndex, incompatFileType, roSparseSuper|roLargeFile
	for _, f := range []struct {
		on   bool
		bits *uint32
		bit  uint32
	}{
		{l.JournalBlocks > 0, &compat, compatJournal}, {l.ReservedGDT > 0, &compat, compatResizeInode},
		{l.extents(), &incompat, incompatExtents}, {o.Wide, &incompat, incompat64Bit}, {o.Flex > 0, &incompat, incompatFlexBG},
		{o.Seed, &incompat, incompatSeed}, {o.LargeDirectories, &incompat, incompatLargeDir},
		{l.extents(), &ro, roHugeFile | roDirNlink}, {l.extents() && o.InodeSize > 128, &ro, roExtraIsize},
		{o.Checksums, &ro, roMetadataCsum},
	} {
		if f.on {
			*f.bits |= f.bit
		}
	}
	return compat, incompat, ro
}
