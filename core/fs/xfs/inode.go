package xfs

import (
	"encoding/binary"
	"math/rand/v2"
	"time"

	"fundus/core/block"
)

// inodesUsed are the root directory and two inodes of a realtime part, which have to be there
// without one too.
const inodesUsed = 3

// Times: seconds from timeBase on in nanoseconds, where they are late times.
// The zero of late times is 2^31 seconds before 1970, the earliest moment that 32 bits could say:
// so every former time has one of the new form.
const timeBase = 1 << 31

// inodes are the first 64, those that are free included (struct xfs_dinode, version 3).
func (l *Layout) inodes() []byte {
	o, be := l.options, binary.BigEndian
	random := rand.NewChaCha8(o.Seed)
	out := make([]byte, 0, inodesMade*l.Inode)
	for i := range uint64(inodesMade) {
		b := make([]byte, l.Inode)
		copy(b, "IN")
		// Of inodes that are free the kernel checks as much as of used ones, since it reads them
		// in clusters: each has signature, version, number, identifier and checksum.
		b[4] = 3
		// The generation tells a file handle of a deleted file from one of the file that has its
		// inode now: it starts anywhere, so that handles of a former file system are not taken
		// for those of this one.
		be.PutUint32(b[92:], uint32(random.Uint64()))
		// The next in the list of files that are deleted and still open: none.
		be.PutUint32(b[96:], none32)
		// An inode knows its number and its file system, so that a block that reached the wrong
		// place is not taken for the right one.
		be.PutUint64(b[152:], l.rootInode()+i)
		copy(b[160:], o.MetaUUID[:])
		if i < inodesUsed {
			l.fill(b, i)
		}
		out = append(out, seal(b, 100)...)
	}
	return out
}

// fill makes an inode one that is used.
func (l *Layout) fill(b []byte, i uint64) {
	o, be := l.options, binary.BigEndian
	const directory, file, newBitmap = 0o040000, 0o100000, 0x4
	be.PutUint32(b[16:], 1) // links
	b[5], b[83] = 2, 2      // extents, of which there are none
	be.PutUint16(b[2:], file)
	switch i {
	case 0:
		// An empty directory lies in its inode: a count of entries, one of those with wide
		// numbers, and the number of the directory above, which of the root is itself. That is 6
		// bytes of data.
		b[5] = 1 // within the inode
		be.PutUint16(b[2:], uint16(directory|o.RootMode))
		be.PutUint32(b[8:], uint32(o.RootUser))
		be.PutUint32(b[12:], uint32(o.RootGroup))
		be.PutUint32(b[16:], 2)
		be.PutUint64(b[56:], 6)
		be.PutUint32(b[178:], uint32(l.rootInode())) // behind two counts of 0: its parent, itself
	case 1:
		// The bitmap of a realtime part of today's form, which the kernel tells by this flag.
		be.PutUint16(b[90:], newBitmap)
	}
	flags := uint64(0)
	if o.LateTimes {
		// xfs_format.h: XFS_DIFLAG2_BIGTIME. Each inode says for itself how its times are to be
		// read, so that a file system can be changed over file by file.
		flags |= 8
	}
	if o.LargeExtentCounts {
		// XFS_DIFLAG2_NREXT64: counts of extents are 64 bits wide, and lie elsewhere in the
		// inode.
		flags |= 16
	}
	be.PutUint64(b[120:], flags)
	for _, at := range []int{32, 40, 48, 144} { // read, written, changed, made
		l.putTime(b[at:])
	}
}

// putTime writes a moment as the file system counts: nanoseconds since 1901 with late times, else
// seconds since 1970 in 32 bits, which end in 2038.
func (l *Layout) putTime(b []byte) {
	be, at := binary.BigEndian, l.options.Time
	if l.options.LateTimes {
		be.PutUint64(b, uint64(at.Unix()+timeBase)*1e9+uint64(at.Nanosecond()))
		return
	}
	be.PutUint32(b, uint32(at.Unix()))
	be.PutUint32(b[4:], uint32(at.Nanosecond()))
}

// made is when the root directory was made, and with it the file system; false where that
// inode is not whole, or lies in another group than the first, which no kernel does.
func (v *volume) made() (time.Time, bool) {
	be := binary.BigEndian
	size, number := int64(be.Uint16(v.super[104:])), be.Uint64(v.super[56:])
	// The fields are read from a device that may hold anything: sizes are held against the block
	// before they move a read.
	if size < 256 || size > v.block || number >= uint64(v.group/size) {
		return time.Time{}, false
	}
	b, err := block.ReadSized(v.dev, int64(number)*size, size, v.block)
	if err != nil || string(b[:2]) != "IN" || b[4] != 3 || be.Uint64(b[152:]) != number || !sealed(b, 100) {
		return time.Time{}, false
	}
	const late = 8
	if be.Uint64(b[120:])&late != 0 {
		n := be.Uint64(b[144:])
		return time.Unix(int64(n/1e9)-timeBase, 0).UTC(), true
	}
	return time.Unix(int64(int32(be.Uint32(b[144:]))), 0).UTC(), true
}
