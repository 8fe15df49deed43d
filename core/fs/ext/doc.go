// Package ext reads, makes and changes ext2, ext3 and ext4.
//
// The disk is cut into block groups. With flex_bg, sixteen groups share one
// packed area at the start of the first of them:
//
//	group 0  │ boot │ superblock │ descriptors │ reserved descriptors │
//	         │ 16 block bitmaps │ 16 inode bitmaps │ 16 inode tables │ data
//	group 1  │ backup superblock and descriptors │ data
//	group 3, 5, 7, 9, 25 …  the same as group 1 (sparse_super)
//
// Groups that hold nothing but what the kernel can compute are marked
// uninitialised and not written. INODE_ZEROED is set only where zeros were
// written, which is with tables=full alone: else the kernel zeroes the inode
// tables after the first mount. The journal starts empty with a random first
// sequence and a UUID of its own, so that it cannot take up blocks of an
// earlier one, and only its superblock is written.
//
// Superblock, group descriptor and inode are each one record (record.go), from which
// reading, writing and `inspect --fields` come.
//
// Refused for writing: any feature bit that this package does not know.
//
// Source: Documentation/filesystems/ext4/ of Linux 6.1 (super.rst,
// group_descr.rst, inodes.rst, ifork.rst, directory.rst, journal.rst) and the
// headers fs/ext4/ext4.h and include/linux/jbd2.h.
package ext
