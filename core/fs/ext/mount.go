package ext

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"slices"

	"fundus/core/block"
	"fundus/core/fs"
)

// AtMount says why the kernel would refuse to mount what has a good superblock. It looks at what
// the kernel looks at before it has mounted, and at nothing more: every group descriptor, the root
// directory's inode, and the journal's inode and superblock. What cannot be read is refused too.
//
// What a replay of the journal may put right is not judged: with one due, the root directory.
//
// Source: fs/ext4/super.c (ext4_check_descriptors, __ext4_fill_super, ext4_get_journal_inode),
// fs/ext4/block_validity.c (ext4_protect_reserved_inode: every mount looks at the map of the
// journal's inode) and fs/jbd2/journal.c (journal_get_superblock) of Linux 6.1.
func AtMount(dev block.Device) (m fs.AtMount) {
	s, err := Read(dev)
	if err != nil || s.Incompat&incompatJournalDev != 0 {
		return m
	}
	if m = s.descriptorsAtMount(dev); m.Any != "" {
		return m
	}
	first, err := s.firstInodes(dev)
	if err != nil {
		m.Any = err.Error()
		return m
	}
	// With a replay due the journal may hold another inode than the one on the disk: what is
	// wrong now may be right then.
	if _, why := s.special(first, rootInode, modeDir); why != "" && s.Incompat&incompatRecover == 0 {
		m.Any = "the root directory: " + why
		return m
	}
	// Whoever makes a journal puts it into that inode.
	if s.Compat&compatJournal == 0 || s.disk.JournalInode != journalInode {
		return m
	}
	n, why := s.special(first, journalInode, modeFile)
	spans, err := s.blocksOf(dev, n)
	switch {
	case why != "":
		m.Any = "the journal: " + why
	case err != nil:
		m.Any = fmt.Sprintf("the journal: the map of inode %d: %v", journalInode, err)
	case len(spans) == 0:
		m.Journal = "the journal: it has no blocks"
	default:
		if why := s.journalAtMount(dev, n); why != "" {
			m.Journal = "the journal: " + why
		}
	}
	return m
}

// mostDescriptors bounds how many bytes of them are read, which is enough for 128 TiB.
// Read at each look at a machine, block by block, and none of it is kept.
const mostDescriptors = 64 << 20

// descriptorsAtMount holds the places that the descriptors name, and their checksums. For a wrong
// checksum alone, and for a place over the superblock's neighbours, a mount for reading passes.
func (s *Superblock) descriptorsAtMount(dev block.Device) (m fs.AtMount) {
	size, first := s.descriptorSize(), s.FirstData
	if size < descriptorShort || size > int64(s.BlockSize) {
		return fs.AtMount{Any: fmt.Sprintf("group descriptors of %d bytes", size)}
	}
	if s.Groups()*uint64(size) > mostDescriptors {
		return m // more than is read at each look
	}
	those, sealed := make([]byte, s.BlockSize), make([]byte, size)
	last, shape, each := uint64(s.Blocks)-1, s.shape(), s.perDesc()
	table := (uint64(s.InodesPerGroup)*uint64(s.InodeSize) + uint64(s.BlockSize) - 1) / uint64(s.BlockSize)
	for group := range s.Groups() {
		if group%each == 0 {
			at := int64(s.descHome(shape, group/each)) * int64(s.BlockSize)
			if err := block.ReadFull(dev, those, at); err != nil {
				return fs.AtMount{Any: fmt.Sprintf("the descriptors of group %d cannot be read: %v", group, err)}
			}
		}
		raw := those[int64(group%each)*size:][:size]
		d, err := decodeDescriptor(raw)
		if err != nil {
			return fs.AtMount{Any: err.Error()}
		}
		from, to := first, last
		// Without flexible groups what a group is described by lies in the group itself; with
		// them anywhere.
		if s.Incompat&incompatFlexBG == 0 {
			from = s.groupStart(group)
			to = min(last, from+uint64(s.BlocksPerGroup)-1)
		}
		for _, p := range []struct {
			what       string
			at, blocks uint64
		}{
			{"block bitmap", wide(d.BlockBitmapLo, d.BlockBitmapHi), 1},
			{"inode bitmap", wide(d.InodeBitmapLo, d.InodeBitmapHi), 1},
			{"inode table", d.inodeTable(), table},
		} {
			switch {
			case p.at < from || p.at > to || p.blocks-1 > to-p.at:
				return fs.AtMount{Any: fmt.Sprintf("group %d: its %s is at block %d, outside of blocks %d to %d",
					group, p.what, p.at, from, to)}
			case p.at <= first+shape.desc && m.Writing == "":
				m.Writing = fmt.Sprintf("group %d: its %s is at block %d, where the superblock or the descriptors are", group, p.what, p.at)
			}
		}
		if m.Writing == "" && s.summed() {
			copy(sealed, raw)
			if s.sealDescriptor(sealed, group, s.UUID, descriptorSumAt); !bytes.Equal(sealed, raw) {
				m.Writing = fmt.Sprintf("group %d: the checksum of its descriptor is wrong", group)
			}
		}
	}
	return m
}

// firstInodes reads those that the file system keeps for itself, at once.
func (s *Superblock) firstInodes(dev block.Device) ([]byte, error) {
	at, err := s.placeOfInode(dev, 1)
	if err != nil {
		return nil, err
	}
	n := min(firstInode-1, int64(s.InodesPerGroup)) * int64(s.InodeSize)
	// Ten inodes, of at most a block each, and a block has at most 64 KiB.
	b, err := block.ReadSized(dev, int64(at), min(n, dev.Size()-int64(at)), firstInode*64<<10)
	if err != nil {
		return nil, fmt.Errorf("the first inodes cannot be read: %w", err)
	}
	return b, nil
}

// special takes an inode as the kernel does one that it needs itself; a word where it refuses it.
func (s *Superblock) special(first []byte, number uint32, mode uint16) (inode, string) {
	at := int(number-1) * int(s.InodeSize)
	if at+int(s.InodeSize) > len(first) {
		return inode{}, fmt.Sprintf("inode %d is not among the first", number)
	}
	raw := first[at:][:s.InodeSize]
	n, err := decodeInode(raw)
	if err != nil {
		return n, err.Error()
	}
	const kinds = 0o170000
	sealed := slices.Clone(raw)
	s.sealInode(sealed, number, n)
	extra := 0
	if len(raw) > inodeShort {
		extra = int(n.ExtraSize)
	}
	switch {
	// In the order in which the kernel asks (ext4_iget), so that of several faults the first it
	// would name is named.
	case extra%4 != 0 || inodeShort+extra > len(raw):
		return n, fmt.Sprintf("inode %d says that %d bytes after its first part are used", number, extra)
	case !bytes.Equal(sealed, raw):
		return n, fmt.Sprintf("the checksum of inode %d is wrong", number)
	case n.Links == 0:
		return n, fmt.Sprintf("inode %d has no links", number)
	case n.Mode&kinds != mode:
		return n, fmt.Sprintf("inode %d has the mode %#o", number, n.Mode)
	case mode == modeDir && n.SizeLo == 0 && n.SizeHi == 0, mode == modeDir && n.BlocksLo == 0 && n.BlocksHi == 0 &&
		n.Flags&flagInline == 0:
		return n, fmt.Sprintf("inode %d is empty", number)
	case n.Flags&flagExtents != 0 && binary.LittleEndian.Uint16(n.Block[:]) != extentMagic:
		return n, fmt.Sprintf("the extents of inode %d have no signature", number)
	}
	return n, ""
}

// flagInline says that an inode holds its content itself.
const flagInline = 0x10000000

// The journal's superblock (fs/jbd2, struct journal_superblock_s); numbers are big-endian.
const (
	journalMagic   = 0xC03B3998
	journalSums    = 0x8 | 0x10 // checksums of version 2 and 3
	journalSumAt   = 0xFC
	journalFastAt  = 0x54 // how many blocks are kept for fast commits
	journalSuperV1 = 3
	journalSuperV2 = 4
	journalKnown   = 0x3F // incompatible features
)

// journalAtMount holds what a mount that leaves the journal alone does not look at.
func (s *Superblock) journalAtMount(dev block.Device, n inode) string {
	blocks := wide(n.SizeLo, n.SizeHi) / uint64(s.BlockSize)
	at, ok := s.firstBlock(dev, n)
	if !ok {
		return "" // its map has more than one level: which block is the first is not looked up
	}
	b, err := block.ReadSized(dev, int64(at)*int64(s.BlockSize), 1024, 1024)
	if err != nil {
		return fmt.Sprintf("its superblock cannot be read: %v", err)
	}
	be := binary.BigEndian
	version, features, length, begin := be.Uint32(b[4:]), uint32(0), uint64(be.Uint32(b[16:])), be.Uint32(b[20:])
	if version == journalSuperV2 {
		features = be.Uint32(b[40:])
	}
	sum := slices.Clone(b)
	clear(sum[journalSumAt : journalSumAt+4])
	switch {
	case be.Uint32(b) != journalMagic || be.Uint32(b[12:]) != uint32(s.BlockSize):
		return "it has no valid superblock"
	// Form 1 has no features and no checksum; what stands in their places there is not looked at.
	case version != journalSuperV1 && version != journalSuperV2:
		return fmt.Sprintf("its superblock has the form %d", version)
	case length > blocks:
		return fmt.Sprintf("it is to have %d blocks, and its file has %d", length, blocks)
	case begin == 0 || uint64(begin) >= length:
		return fmt.Sprintf("its log is to begin at block %d of %d", begin, length)
	case features&^journalKnown != 0:
		return fmt.Sprintf("it has features that are not known: %#x", features&^journalKnown)
	case features&journalSums == journalSums:
		return "it has checksums of two forms at once"
	case features&journalSums != 0 && be.Uint32(b[journalSumAt:]) != crc(^uint32(0), sum):
		return "the checksum of its superblock is wrong"
	}
	return ""
}

// firstBlock is the block with which a file begins, where its inode itself names it.
func (s *Superblock) firstBlock(dev block.Device, n inode) (at uint64, ok bool) {
	le := binary.LittleEndian
	if n.Flags&flagExtents == 0 {
		at = uint64(le.Uint32(n.Block[:]))
		return at, at != 0
	}
	b := n.Block[:]
	// The depth has to fall by one with each node, so that a circle ends at 0.
	for depth := le.Uint16(b[6:]); ; depth-- {
		if len(b) < 24 || le.Uint16(b) != extentMagic || le.Uint16(b[2:]) == 0 || le.Uint16(b[6:]) != depth {
			return 0, false
		}
		e := b[12:]
		if depth == 0 {
			return uint64(le.Uint16(e[6:]))<<32 | uint64(le.Uint32(e[8:])), le.Uint32(e) == 0
		}
		below := uint64(le.Uint16(e[8:]))<<32 | uint64(le.Uint32(e[4:]))
		var err error
		if b, err = block.ReadSized(dev, int64(below)*int64(s.BlockSize), int64(s.BlockSize), int64(s.BlockSize)); err != nil {
			return 0, false
		}
	}
}
