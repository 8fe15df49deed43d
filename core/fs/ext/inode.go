package ext

import (
	"encoding/binary"

	"fundus/core/block/field"
	"fundus/core/extent"
)

// file is an inode to be written.
type file struct {
	number uint32
	mode   uint16
	links  uint16
	size   uint64 // bytes
	blocks uint64 // file-system blocks that it takes, with its own metadata
	flags  uint32
	body   []byte // i_block
	user   int64
	group  int64
}

// inodes writes the first blocks of group 0's inode table: root, the resize
// inode, the journal and lost+found. The rest of the table is left to the
// kernel, which zeroes it after the first mount.
func (w *maker) inodes() {
	o, size := w.options, uint64(w.BlockSize)
	perBlock := uint64(w.BlockSize / o.InodeSize)
	table := make([]byte, (firstInode+perBlock-1)/perBlock*size)
	flags := uint32(0)
	if w.extents() {
		flags = flagExtents
	}
	files := []file{
		{
			rootInode, modeDir | uint16(o.RootMode), 3, size, 1, flags, w.direct(extent.Span{Start: w.root, Count: 1}),
			o.RootUser, o.RootGroup,
		},
		{firstInode, modeDir | 0o700, 2, w.lostFound.Count * size, w.lostFound.Count, flags, w.direct(w.lostFound), 0, 0},
	}
	if w.ReservedGDT > 0 {
		files = append(files, w.resizeFile())
	}
	if w.JournalBlocks > 0 {
		inInode, beside := w.journalMap()
		files = append(files, file{
			journalInode, modeFile | 0o600, 1, w.JournalBlocks * size, w.JournalBlocks + uint64(len(beside)), flags,
			inInode, 0, 0,
		})
	}
	for _, f := range files {
		copy(table[uint64(f.number-1)*uint64(o.InodeSize):], w.inode(f))
	}
	w.put(w.groups[0].inodeTable, table)
}

func (w *maker) inode(f file) []byte {
	var n inode
	n.Mode, n.Links, n.Flags = f.mode, f.links, f.flags
	n.SizeLo, n.SizeHi = halves(f.size)
	units := f.blocks * uint64(w.BlockSize) / 512
	n.BlocksLo, n.BlocksHi = uint32(units), uint16(units>>32)
	copy(n.Block[:], f.body)
	n.UserLo, n.UserHi = short(uint32(f.user))
	n.GroupLo, n.GroupHi = short(uint32(f.group))
	seconds := w.options.Time.Unix()
	n.AccessTime, n.ChangeTime, n.ModifyTime = uint32(seconds), uint32(seconds), uint32(seconds)
	b := make([]byte, w.options.InodeSize)
	extra := len(b) > inodeShort
	if extra {
		n.ExtraSize = extraSize // or the kernel would take the fields behind it for attributes
		n.CreateTime = uint32(seconds)
		epoch := uint32(seconds>>32) & 3 // nanoseconds are left zero
		n.AccessX, n.ChangeX, n.ModifyX, n.CreateX = epoch, epoch, epoch, epoch
	}
	copy(b, field.Encode(binary.LittleEndian, &n))
	if w.options.Checksums {
		// Over the whole inode with its own halves as zeros; a short one has the low one.
		n.ChecksumLo, n.ChecksumHi = short(crc(w.inodeSeed(f.number), b))
		copy(b, field.Encode(binary.LittleEndian, &n))
	}
	return b
}

// inodeSeed starts every checksum of something that belongs to the inode; the
// generation is 0.
func (w *maker) inodeSeed(number uint32) uint32 {
	return crc(crc(w.seed, binary.LittleEndian.AppendUint32(nil, number)), make([]byte, 4))
}

// resizeFile is the inode that holds the reserved descriptor blocks: its
// double-indirect block points to each of them in group 0, and each of those
// to its copies in the backup groups.
//
// Its size is the largest that a file of so many indirect blocks can have, holes and all:
// the kernel holds the descriptors that it takes from here against exactly that map
// (fs/ext4/resize.c), and refuses to grow where it differs.
func (w *maker) resizeFile() file {
	pointers := uint64(w.BlockSize) / 4
	body := make([]byte, mapBytes)
	binary.LittleEndian.PutUint32(body[13*4:], uint32(w.resizeMap))
	blocks := 1 + w.ReservedGDT*(1+uint64(len(w.backups)))
	size := (12 + pointers + pointers*pointers) * uint64(w.BlockSize)
	return file{resizeInode, modeFile | 0o600, 1, size, blocks, 0, body, 0, 0}
}

// resizeBlocks works out the content of those blocks: the one that points to the reserved ones, and
// all of these. It reads the layout alone, so that it goes on beside the rest.
func (w *maker) resizeBlocks() (double, singles []byte) {
	le, pointers := binary.LittleEndian, uint64(w.BlockSize)/4
	double, singles = make([]byte, w.BlockSize), make([]byte, w.ReservedGDT*uint64(w.BlockSize))
	first := w.FirstData + 1 + w.DescBlocks
	for i := range w.ReservedGDT {
		number := w.DescBlocks + i // of the descriptor block that this one may become
		le.PutUint32(double[number%pointers*4:], uint32(first+i))
		single := singles[i*uint64(w.BlockSize):]
		for k, g := range w.backups {
			le.PutUint32(single[4*k:], uint32(w.groupStart(g)+1+number))
		}
	}
	return double, singles
}

// journal writes the journal's superblock and what of its map does not fit into its
// inode. Its numbers are big-endian (journal.rst). Blocks behind it are not
// written: the journal is empty (start 0), and its random sequence and UUID
// keep stale ones out.
func (w *maker) journal() {
	if w.JournalBlocks == 0 {
		return
	}
	b, be := make([]byte, 1024), binary.BigEndian
	be.PutUint32(b[0x00:], 0xC03B3998)
	be.PutUint32(b[0x04:], 4) // superblock, version 2: of version 1 the features are not read
	be.PutUint32(b[0x0C:], uint32(w.BlockSize))
	be.PutUint32(b[0x10:], uint32(w.JournalBlocks))
	be.PutUint32(b[0x14:], 1) // the log begins behind this block
	be.PutUint32(b[0x18:], w.options.FirstSequence)
	copy(b[0x30:], w.options.JournalUUID[:])
	be.PutUint32(b[0x40:], 1) // users
	copy(b[0x100:], w.options.UUID[:])
	w.put(w.Journal[0].Start, b)
	_, beside := w.journalMap()
	for _, m := range beside {
		w.put(m.at, m.content)
	}
}

// directories writes root and lost+found (directory.rst): linear blocks whose
// last entry ends before the 12 bytes of the checksum.
func (w *maker) directories() {
	w.put(w.root, w.directory(rootInode, []entry{{rootInode, "."}, {rootInode, ".."}, {firstInode, "lost+found"}}))
	for i := range w.lostFound.Count {
		var entries []entry
		if i == 0 {
			entries = []entry{{firstInode, "."}, {rootInode, ".."}}
		}
		w.put(w.lostFound.Start+i, w.directory(firstInode, entries))
	}
}

type entry struct {
	inode uint32
	name  string
}

// Entries follow each other, each as long as it says, the last one up to the end; that is
// how a name is deleted: the entry before it gets its length.
func (w *maker) directory(number uint32, entries []entry) []byte {
	b, le := make([]byte, w.BlockSize), binary.LittleEndian
	tail := 0
	if w.options.Checksums {
		tail = 12 // looks like an unused entry to a kernel that knows no checksums
	}
	at, end := 0, len(b)-tail
	for i, e := range entries {
		length := (8 + len(e.name) + 3) &^ 3
		if i == len(entries)-1 {
			length = end - at
		}
		le.PutUint32(b[at:], e.inode)
		le.PutUint16(b[at+4:], uint16(length))
		b[at+6], b[at+7] = byte(len(e.name)), 2 // a directory
		copy(b[at+8:], e.name)
		at += length
	}
	if len(entries) == 0 {
		le.PutUint16(b[4:], uint16(end)) // one unused entry over the block
	}
	if tail > 0 {
		le.PutUint16(b[end+4:], uint16(tail))
		b[end+7] = 0xDE
		le.PutUint32(b[end+8:], crc(w.inodeSeed(number), b[:end]))
	}
	return b
}
