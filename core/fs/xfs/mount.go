package xfs

import (
	"encoding/binary"
	"fmt"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/fs"
)

// AtMount says why the kernel would refuse to mount what has a good superblock: the root directory
// in the tree of its group, its inode and those of the realtime part with their neighbours, and
// for writing the headers of each group. A log that has to be replayed may put them right: then
// nothing is said. What cannot be read is refused too.
//
// Source: fs/xfs/xfs_mount.c (xfs_mountfs), xfs_rtalloc.c (xfs_rtmount_inodes), and
// fs/xfs/libxfs/xfs_inode_buf.c (xfs_inode_buf_verify, xfs_dinode_verify) of Linux 6.1.
func AtMount(dev block.Device) (m fs.AtMount) {
	v, err := open(dev)
	if err != nil {
		return m
	}
	if v.log > 0 {
		if end, err := v.readLog(); err != nil || !end.clean {
			return m
		}
	}
	be := binary.BigEndian
	if size, perBlock := int64(be.Uint16(v.super[104:])), int64(be.Uint16(v.super[106:])); size < 256 || size > 2048 || size > v.block ||
		perBlock != v.block/size {
		return fs.AtMount{Any: fmt.Sprintf("inodes of %d bytes, %d to a block of %d", size, perBlock, v.block)}
	}
	if why := v.listed(be.Uint64(v.super[56:])); why != "" {
		return fs.AtMount{Any: why}
	}
	for _, n := range []struct {
		what   string
		number uint64
		mode   uint16
	}{
		{"the root directory", be.Uint64(v.super[56:]), 0o040000},
		{"the bitmap of the realtime part", be.Uint64(v.super[64:]), 0o100000},
		{"the summary of the realtime part", be.Uint64(v.super[72:]), 0o100000},
	} {
		if why := v.inodeAtMount(n.number, n.mode); why != "" {
			return fs.AtMount{Any: n.what + ": " + why}
		}
	}
	m.Writing = v.groupsAtMount()
	return m
}

// inodeAtMount reads the inode with those that are read with it, as the kernel does.
func (v *volume) inodeAtMount(number uint64, mode uint16) string {
	be := binary.BigEndian
	size, blockLog, perBlock := int64(be.Uint16(v.super[104:])), uint(v.super[124]), uint64(be.Uint16(v.super[106:]))
	at := number / perBlock
	group, inGroup := int64(at>>blockLog), int64(at&(1<<blockLog-1))
	if group >= v.count || inGroup*v.block >= v.group {
		return fmt.Sprintf("inode %d is after the end", number)
	}
	// The kernel reads a cluster at once and checks each inode of it, so that damage to a
	// neighbour keeps the root directory from being read.
	first := inGroup / v.cluster(size) * v.cluster(size)
	length := v.cluster(size) * v.block
	// 64 KiB is the longest cluster: 32 inodes of 2048 bytes.
	b, err := block.ReadSized(v.dev, group*v.group+first*v.block, length, 64<<10)
	if err != nil {
		return fmt.Sprintf("inode %d cannot be read: %v", number, err)
	}
	for i := int64(0); i < length; i += size {
		if n := b[i:]; string(n[:2]) != "IN" || n[4] != 3 {
			return fmt.Sprintf("an inode next to inode %d, %d bytes before it, has no signature", number,
				(inGroup-first)*v.block+int64(number%perBlock)*size-i)
		}
	}
	n := b[(inGroup-first)*v.block+int64(number%perBlock)*size:][:size]
	const kinds = 0o170000
	switch {
	case !sealed(n, 100):
		return fmt.Sprintf("the checksum of inode %d is wrong", number)
	case be.Uint64(n[152:]) != number || uuid.UUID(n[160:176]) != v.meta():
		return fmt.Sprintf("inode %d says that it is another", number)
	case be.Uint16(n[2:])&kinds != mode:
		return fmt.Sprintf("inode %d has the mode %#o", number, be.Uint16(n[2:]))
	}
	return ""
}

// cluster is how many blocks of inodes of a size are read at once (xfs_ialloc_setup_geometry).
func (v *volume) cluster(size int64) int64 {
	// A cluster has 8 KiB for inodes of 256 bytes, and grows with them, where the alignment of
	// chunks allows it; else it stays at 8 KiB.
	const usual, least = 8192, 256
	align := int64(binary.BigEndian.Uint32(v.super[180:]))
	for _, bytes := range []int64{usual * size / least, usual} {
		if n := bytes / v.block; n <= align || bytes == usual {
			return max(n, 1)
		}
	}
	return 1
}

// listed looks the root directory up in the tree of its group, which the kernel does not trust to
// be where it should be.
func (v *volume) listed(number uint64) string {
	be := binary.BigEndian
	perBlock, blockLog := uint64(be.Uint16(v.super[106:])), uint(v.super[124])
	group, inGroup := int64(number/perBlock>>blockLog), uint32(number%(perBlock<<blockLog))
	if group >= v.count {
		return fmt.Sprintf("inode %d is after the end", number)
	}
	if why := v.header(group, inodeHead); why != "" {
		return why
	}
	sector := int64(be.Uint16(v.super[sectorSize:]))
	agi, err := block.ReadSized(v.dev, group*v.group+2*sector, sector, mostSector)
	if err != nil {
		return err.Error()
	}
	at, level := int64(be.Uint32(agi[20:])), int(be.Uint32(agi[24:]))
	// Eight levels hold more inodes than a group has blocks: what says that it has more is
	// damaged, and is not followed.
	const head, record, mostLevels = 56, 16, 8
	for ; level > 0 && level <= mostLevels && at > 0 && (at+1)*v.block <= v.group; level-- {
		b, err := block.ReadSized(v.dev, group*v.group+at*v.block, v.block, v.block)
		if err != nil {
			return fmt.Sprintf("the tree of inodes of group %d cannot be read: %v", group, err)
		}
		// A leaf has records of 16 bytes; a block above holds keys of 4, and behind the room for
		// all of them the numbers of the blocks below, of 4 each.
		n, most := int64(be.Uint16(b[6:])), (v.block-head)/record
		if level > 1 {
			most = (v.block - head) / 8
		}
		if string(b[:4]) != "IAB3" || !sealed(b, 52) || int(be.Uint16(b[4:])) != level-1 || n == 0 || n > most {
			break
		}
		width := int64(record)
		if level > 1 {
			width = 4
		}
		// The last key that is not above what is sought: below it lies the record, if there is
		// one.
		i := n - 1
		for ; i > 0 && be.Uint32(b[head+i*width:]) > inGroup; i-- {
		}
		if e := b[head+i*width:]; level == 1 {
			if begin := be.Uint32(e); begin > inGroup || inGroup-begin >= inodesMade || be.Uint64(e[8:])>>(inGroup-begin)&1 != 0 {
				return fmt.Sprintf("group %d says that inode %d is free", group, number)
			}
			return ""
		}
		at = int64(be.Uint32(b[head+4*most+4*i:]))
	}
	return fmt.Sprintf("the tree of inodes of group %d is damaged", group)
}

// head is a header of a group: in which of its sectors it lies, and where its checksum.
type head struct {
	what  string
	magic string
	at    int64
	sum   int
}

var (
	spaceHead = head{"free space", "XAGF", 1, 216}
	inodeHead = head{"inodes", "XAGI", 2, 312}
)

// header checks one of a group.
func (v *volume) header(group int64, h head) string {
	sector := int64(binary.BigEndian.Uint16(v.super[sectorSize:]))
	b, err := block.ReadSized(v.dev, group*v.group+h.at*sector, sector, mostSector)
	switch {
	case err != nil:
		return fmt.Sprintf("group %d: its header of %s cannot be read: %v", group, h.what, err)
	case string(b[:4]) != h.magic || binary.BigEndian.Uint32(b[8:]) != uint32(group):
		return fmt.Sprintf("group %d: its header of %s is not there", group, h.what)
	case !sealed(b, h.sum):
		return fmt.Sprintf("group %d: the checksum of its header of %s is wrong", group, h.what)
	}
	return ""
}

// groupsAtMount checks what the kernel reads of each group to keep room for its trees.
func (v *volume) groupsAtMount() string {
	// For writing the kernel keeps blocks back in each group, for trees that grow, and reads both
	// headers for it; for reading alone it does not.
	for g := range min(v.count, mostMade) { // of more than anybody makes the first are looked at
		for _, h := range []head{spaceHead, inodeHead} {
			if why := v.header(g, h); why != "" {
				return why
			}
		}
	}
	return ""
}
