package ext

import (
	"context"
	"encoding/binary"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/extent"
	"fundus/core/quantity"
)

// Make writes a new ext4 onto the device, the primary superblock last and
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
// written, and nothing takes what is there for an ext4.
//
// The order is that of trust: what nothing refers to yet comes first, the superblock, which
// makes an ext4 of it all, last. So a power cut leaves a device that holds nothing, or all
// of it; that the old signatures are gone before is the caller's part.
func (l *Layout) Write(ctx context.Context, dev block.Device) error {
	w := &maker{Layout: l, ctx: ctx, dev: dev, seed: crc(^uint32(0), l.options.UUID[:]), checksumAt: field.At(descriptor{}, "Checksum")}
	descriptors := w.groupsAndBitmaps() // counts the free blocks, which the superblocks need
	w.inodes()
	w.directories()
	w.journal()
	w.resizeBlocks()
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
	// Until here nothing takes the device for an ext4; and once the superblock is there,
	// all that it speaks of has reached the disk.
	w.sync()
	w.bytes(first, 0)
	w.bytes(w.superblock(0), superOffset)
	w.sync()
	return w.err
}

// maker writes one file system; it keeps the first error.
type maker struct {
	*Layout
	ctx        context.Context
	dev        block.Device
	seed       uint32
	freeBlocks uint64
	checksumAt int // in a group descriptor: there are many, and each is encoded once
	err        error
}

// bytes writes p, which nobody changes from then on.
func (w *maker) bytes(p []byte, off int64) {
	if w.err == nil {
		w.err = w.ctx.Err()
	}
	if w.err == nil {
		w.err = block.Give(w.dev, p, off)
	}
}

// put writes whole blocks: what is shorter is padded with zeros.
func (w *maker) put(at uint64, p []byte) {
	size := int(w.BlockSize)
	if rest := len(p) % size; rest != 0 {
		p = append(p[:len(p):len(p)], make([]byte, size-rest)...)
	}
	w.bytes(p, int64(at)*int64(size))
}

func (w *maker) sync() {
	if w.err == nil {
		w.err = w.dev.Sync()
	}
}

// groupsAndBitmaps writes the bitmaps of initialised groups and gives all
// descriptors.
//
// A group that holds nothing of its own is not written: its descriptor says that the kernel
// may work the bitmap out, which it does when it first allocates there. That is what makes
// a large file system in seconds; without checksums on the descriptors the kernel would not
// believe the flag, and everything would have to be written.
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
			d.BlockSumLo, d.BlockSumHi = short(crc(w.seed, bitmap[:w.BlocksPerGroup/8]))
		}
		freeInodes := w.InodesPerGroup
		if g == 0 {
			freeInodes -= firstInode
			bitmap := w.bitmap([]extent.Span{{Start: 0, Count: firstInode}}, w.InodesPerGroup)
			w.put(w.groups[g].inodeBitmap, bitmap)
			d.InodeSumLo, d.InodeSumHi = short(crc(w.seed, bitmap[:w.InodesPerGroup/8]))
			d.DirectoriesLo = 2
		} else {
			d.Flags |= inodeUninit
		}
		descriptors = append(descriptors, w.descriptor(d, g, free, freeInodes)...)
	}
	return descriptors
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
	// The kernel leaves out the end of an inode table that was never used, and zeroes it
	// after the first mount; what is counted here as unused must never have been written
	// to.
	d.UnusedLo, d.UnusedHi = short(uint32(freeInodes)) // none was ever in use
	sum := crc(w.seed, le.AppendUint32(nil, uint32(g)))
	b := field.Encode(le, &d)
	le.PutUint16(b[w.checksumAt:], uint16(crc(sum, b))) // over its own two bytes as zeros
	return b
}

// short are the halves of a number of 32 bits.
func short(n uint32) (lo, hi uint16) { return uint16(n), uint16(n >> 16) }

// bitmap is a block with the bits of the spans set, and all bits behind count.
//
// A set bit is a block that is taken. The last group is shorter than its bitmap: what lies
// behind the end of the file system must be taken too, or the kernel would give it to a
// file.
func (w *maker) bitmap(used []extent.Span, count uint64) []byte {
	b := make([]byte, w.BlockSize)
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
	d.Magic, d.Revision, d.State, d.OnErrors, d.MaxMounts = magicExt, 1, 1, 1, -1 // clean; go on after errors; no check by mounts
	// The kernel keeps the extra bytes of every inode free of attributes: there is room for
	// nanoseconds, checksum and project for good.
	d.FirstInode, d.InodeSize, d.MinExtra, d.WantExtra = firstInode, inodeSize, extraSize, extraSize
	d.GroupNumber, d.DescSize, d.ReservedGDT = uint16(group), gdSize, uint16(w.ReservedGDT)
	// Incompatible bits keep a kernel away that does not know them; read-only ones let it
	// read. metadata_csum stands without its seed: the UUID seeds the checksums.
	d.Compat = w.compat()
	d.Incompat = incompatFileType | incompatExtents | incompat64Bit | incompatFlexBG
	d.RO = roSparseSuper | roLargeFile | roHugeFile | roDirNlink | roExtraIsize | roMetadataCsum
	d.MountDefaults = 0xC // user_xattr, acl
	d.Flags = 1           // signed directory hash: characters as x86 has them, on every machine
	d.HashVersion, d.LogFlex, d.ChecksumType = 1, logFlex, 1
	d.UUID, d.HashSeed = o.UUID, o.HashSeed
	copy(d.Label[:], o.Label)
	d.WriteTime, d.WriteTimeHi = stamp(o.Time)
	d.MakeTime, d.MakeTimeHi = stamp(o.Time)
	d.CheckTime, d.CheckTimeHi = stamp(o.Time)
	if w.JournalBlocks > 0 {
		d.JournalInode, d.JournalBackup = journalInode, 1
		// A copy of the journal's map: it is found again where its inode is damaged. Behind
		// it stand the halves of its size, the high one first.
		copy(d.JournalMap[:60], w.journalMap())
		lo, hi := halves(w.JournalBlocks * uint64(w.BlockSize))
		le.PutUint32(d.JournalMap[60:], hi)
		le.PutUint32(d.JournalMap[64:], lo)
	}
	s := Superblock{RO: d.RO, disk: d}
	return s.sealed()
}

func (w *maker) compat() uint32 {
	bits := uint32(compatExtAttr | compatDirIndex)
	if w.JournalBlocks > 0 {
		bits |= compatJournal
	}
	if w.ReservedGDT > 0 {
		bits |= compatResizeInode
	}
	return bits
}
