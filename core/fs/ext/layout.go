package ext

// Where the superblock lies, and its signature (super.rst).
const (
	superOffset = 1024
	superSize   = 1024
	magicExt    = 0xEF53
)

// What a new ext4 has (group_descr.rst, inodes.rst).
const (
	gdSize    = 64  // bytes of a group descriptor
	inodeSize = 256 // bytes
	extraSize = 32  // of these behind the first 128, for nanoseconds, checksum and project

	inodeUninit = 0x1
	blockUninit = 0x2

	flagExtents = 0x80000
	modeDir     = 0o040000
	modeFile    = 0o100000

	rootInode    = 2
	resizeInode  = 7
	journalInode = 8
	firstInode   = 11 // lost+found takes it
)

// Feature bits.
const (
	compatJournal     = 0x4
	compatExtAttr     = 0x8
	compatResizeInode = 0x10
	compatDirIndex    = 0x20

	incompatFileType   = 0x2
	incompatRecover    = 0x4
	incompatJournalDev = 0x8
	incompatMetaBG     = 0x10
	incompatExtents    = 0x40
	incompat64Bit      = 0x80
	incompatFlexBG     = 0x200

	roSparseSuper  = 0x1
	roLargeFile    = 0x2
	roHugeFile     = 0x8
	roDirNlink     = 0x20
	roExtraIsize   = 0x40
	roBigalloc     = 0x200
	roMetadataCsum = 0x400
)

type featureName struct {
	bit  uint32
	name string
}

// The features by name, and with that which are known. A bit that is not
// listed here keeps Fundus from writing.
func compatNames() []featureName {
	return []featureName{{0x1, "dir_prealloc"}, {0x4, "has_journal"}, {0x8, "ext_attr"}, {0x10, "resize_inode"}, {0x20, "dir_index"}, {0x200, "sparse_super2"}, {0x400, "fast_commit"}, {0x1000, "orphan_file"}}
}

func incompatNames() []featureName {
	return []featureName{{0x2, "filetype"}, {0x4, "needs_recovery"}, {0x8, "journal_dev"}, {0x10, "meta_bg"}, {0x40, "extents"}, {0x80, "64bit"}, {0x100, "mmp"}, {0x200, "flex_bg"}, {0x400, "ea_inode"}, {0x2000, "metadata_csum_seed"}, {0x4000, "large_dir"}, {0x8000, "inline_data"}, {0x10000, "encrypt"}, {0x20000, "casefold"}}
}

func roNames() []featureName {
	return []featureName{{0x1, "sparse_super"}, {0x2, "large_file"}, {0x8, "huge_file"}, {0x10, "uninit_groups"}, {0x20, "dir_nlink"}, {0x40, "extra_isize"}, {0x100, "quota"}, {0x200, "bigalloc"}, {0x400, "metadata_csum"}, {0x1000, "read_only"}, {0x2000, "project"}, {0x8000, "verity"}, {0x10000, "orphans_present"}}
}
