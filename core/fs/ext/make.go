package ext

import (
	"context"
	"encoding/binary"

	"fundus/core/block"
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
func (l *Layout) Write(ctx context.Context, dev block.Device) error {
	w := &maker{Layout: l, ctx: ctx, dev: dev, seed: crc(^uint32(0), l.options.UUID[:])}
	descriptors := w.groupsAndBitmaps()
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
func (w *maker) groupsAndBitmaps() []byte {
	descriptors := make([]byte, w.DescBlocks*uint64(w.BlockSize))
	for g := range w.Groups {
		if g%4096 == 0 { // some milliseconds
			w.options.Sink.Send("block groups", quantity.Bytes(g*w.BlocksPerGroup)*w.BlockSize, quantity.Bytes(w.Blocks)*w.BlockSize)
		}
		d := descriptors[g*gdSize : (g+1)*gdSize]
		used, blocks := w.usedIn(g)
		free := blocks
		for _, s := range used {
			free -= s.Count
		}
		w.freeBlocks += free
		flags := uint16(0)
		if w.uninitialised(g, used) {
			flags |= blockUninit
		} else {
			bitmap := w.bitmap(used, blocks)
			w.put(w.groups[g].blockBitmap, bitmap)
			putSplit(d, gdBlockCsumLo, gdBlockCsumHi, crc(w.seed, bitmap[:w.BlocksPerGroup/8]))
		}
		freeInodes := w.InodesPerGroup
		if g == 0 {
			freeInodes -= firstInode
			bitmap := w.bitmap([]extent.Span{{Start: 0, Count: firstInode}}, w.InodesPerGroup)
			w.put(w.groups[g].inodeBitmap, bitmap)
			putSplit(d, gdInodeCsumLo, gdInodeCsumHi, crc(w.seed, bitmap[:w.InodesPerGroup/8]))
			binary.LittleEndian.PutUint16(d[gdUsedDirsLo:], 2)
		} else {
			flags |= inodeUninit
		}
		w.descriptor(d, g, flags, free, freeInodes)
	}
	return descriptors
}

func (w *maker) descriptor(d []byte, g uint64, flags uint16, free, freeInodes uint64) {
	le, place := binary.LittleEndian, w.groups[g]
	putWide(d, gdBlockBitmapLo, gdBlockBitmapHi, place.blockBitmap)
	putWide(d, gdInodeBitmapLo, gdInodeBitmapHi, place.inodeBitmap)
	putWide(d, gdInodeTableLo, gdInodeTableHi, place.inodeTable)
	putSplit(d, gdFreeBlocksLo, gdFreeBlocksHi, uint32(free))
	putSplit(d, gdFreeInodesLo, gdFreeInodesHi, uint32(freeInodes))
	putSplit(d, gdUnusedLo, gdUnusedHi, uint32(freeInodes))
	le.PutUint16(d[gdFlags:], flags)
	sum := crc(w.seed, le.AppendUint32(nil, uint32(g)))
	le.PutUint16(d[gdChecksum:], uint16(crc(sum, d))) // its own two bytes are still zero
}

func putSplit(b []byte, lo, hi int, v uint32) {
	binary.LittleEndian.PutUint16(b[lo:], uint16(v))
	binary.LittleEndian.PutUint16(b[hi:], uint16(v>>16))
}

func putWide(b []byte, lo, hi int, v uint64) {
	binary.LittleEndian.PutUint32(b[lo:], uint32(v))
	binary.LittleEndian.PutUint32(b[hi:], uint32(v>>32))
}

// bitmap is a block with the bits of the spans set, and all bits behind count.
func (w *maker) bitmap(used []extent.Span, count uint64) []byte {
	b := make([]byte, w.BlockSize)
	for _, s := range used {
		setBits(b, s.Start, s.End())
	}
	setBits(b, count, 8*uint64(len(b)))
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
	b, le, o := make([]byte, superSize), binary.LittleEndian, w.options
	for off, v := range map[int]uint32{
		sbInodes: uint32(w.InodesPerGroup * w.Groups), sbFreeInodes: uint32(w.InodesPerGroup*w.Groups - firstInode),
		sbFirstData: uint32(w.FirstData), sbBlocksPerGroup: uint32(w.BlocksPerGroup), sbClustersPer: uint32(w.BlocksPerGroup),
		sbInodesPerGroup: uint32(w.InodesPerGroup), sbRevision: 1, sbFirstInode: firstInode,
		sbCompat: w.compat(), sbIncompat: incompatFileType | incompatExtents | incompat64Bit | incompatFlexBG,
		sbROCompat:     roSparseSuper | roLargeFile | roHugeFile | roDirNlink | roExtraIsize | roMetadataCsum,
		sbMountOptions: 0xC /* user_xattr, acl */, sbFlags: 1, /* signed directory hash */
	} {
		le.PutUint32(b[off:], v)
	}
	for off, v := range map[int]uint16{
		sbMaxMounts: 0xFFFF, sbMagic: magicExt, sbState: 1, sbErrors: 1, sbInodeSize: inodeSize, sbGroupNumber: uint16(group),
		sbReservedGDT: uint16(w.ReservedGDT), sbDescSize: gdSize, sbMinExtra: extraSize, sbWantExtra: extraSize,
	} {
		le.PutUint16(b[off:], v)
	}
	putWide(b, sbBlocksLo, sbBlocksHi, w.Blocks)
	putWide(b, sbReservedLo, sbReservedHi, w.Reserved)
	putWide(b, sbFreeBlocksLo, sbFreeBlocksHi, w.freeBlocks)
	logBlock := uint32(w.BlockSize / 2048) // 1024, 2048, 4096: 0, 1, 2
	le.PutUint32(b[sbLogBlock:], logBlock)
	le.PutUint32(b[sbLogCluster:], logBlock)
	now := o.Time.Unix()
	for _, at := range [][2]int{{sbWriteTime, sbWriteTimeHi}, {sbMakeTime, sbMakeTimeHi}, {sbLastCheck, sbLastCheckHi}} {
		le.PutUint32(b[at[0]:], uint32(now))
		b[at[1]] = byte(now >> 32)
	}
	copy(b[sbUUID:], o.UUID[:])
	copy(b[sbLabel:sbLabel+16], o.Label)
	copy(b[sbHashSeed:], o.HashSeed[:])
	b[sbHashVersion], b[sbLogFlex], b[sbChecksumType] = 1, logFlex, 1
	if w.JournalBlocks > 0 {
		le.PutUint32(b[sbJournalInode:], journalInode)
		b[sbJournalBackup] = 1
		copy(b[sbJournalBlocks:], w.journalMap())
		size := w.JournalBlocks * uint64(w.BlockSize)
		le.PutUint32(b[sbJournalBlocks+60:], uint32(size>>32))
		le.PutUint32(b[sbJournalBlocks+64:], uint32(size))
	}
	le.PutUint32(b[sbChecksum:], crc(^uint32(0), b[:sbChecksum]))
	return b
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
