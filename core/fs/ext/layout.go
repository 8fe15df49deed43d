package ext

// Where the superblock lies, and its signature (super.rst).
const (
	superOffset = 1024
	superSize   = 1024
	magicExt    = 0xEF53
)

// What a new file system has (group_descr.rst, inodes.rst).
const (
	extraSize = 32 // bytes of an inode behind the first 128, for nanoseconds, checksum and project

	// Of a group: its inode bitmap and its block bitmap were never written, and read as empty;
	// its inode table is zeros.
	inodeUninit = 0x1
	blockUninit = 0x2
	tableZeroed = 0x4

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
	// Who does not know one of these may mount for writing all the same.
	compatJournal     = 0x4
	compatExtAttr     = 0x8
	compatResizeInode = 0x10
	compatDirIndex    = 0x20

	compatFastCommit   = 0x400
	compatStableInodes = 0x800

	// Who does not know one of these must not mount at all.
	incompatFileType   = 0x2
	incompatRecover    = 0x4
	incompatJournalDev = 0x8
	incompatMetaBG     = 0x10
	incompatExtents    = 0x40
	incompat64Bit      = 0x80
	incompatMMP        = 0x100
	incompatFlexBG     = 0x200
	incompatSeed       = 0x2000
	incompatLargeDir   = 0x4000

	// Who does not know one of these may read, and must not write.
	roSparseSuper  = 0x1
	roLargeFile    = 0x2
	roHugeFile     = 0x8
	roDescCsum     = 0x10
	roDirNlink     = 0x20
	roExtraIsize   = 0x40
	roBigalloc     = 0x200
	roMetadataCsum = 0x400
)

// featureName is a feature twice: for people what it brings, for programs and for whoever
// looks into the kernel the constant.
type featureName struct {
	bit      uint32
	constant string // of the kernel, behind EXT4_FEATURE_ and the word of the field
	name     string // what it means
}

// The features by name, and with that which are known (fs/ext4/ext4.h). A bit that is not
// listed here keeps Fundus from writing.
func compatNames() []featureName {
	return []featureName{
		{0x1, "DIR_PREALLOC", "space kept for directories"}, {0x4, "HAS_JOURNAL", "journal"}, {0x8, "EXT_ATTR", "extended attributes"},
		{0x10, "RESIZE_INODE", "space for growth"}, {0x20, "DIR_INDEX", "indexed directories"}, {0x200, "SPARSE_SUPER2", "two copies"},
		{0x400, "FAST_COMMIT", "fast commits"}, {0x800, "STABLE_INODES", "inodes that keep their numbers"},
		{0x1000, "ORPHAN_FILE", "orphan file"},
	}
}

func incompatNames() []featureName {
	return []featureName{
		{0x2, "FILETYPE", "types in directories"}, {0x4, "RECOVER", "journal not emptied"}, {0x8, "JOURNAL_DEV", "journal of another"},
		{0x10, "META_BG", "meta groups"}, {0x40, "EXTENTS", "extents"}, {0x80, "64BIT", "64-bit blocks"},
		{0x100, "MMP", "guard against two mounts"},
		{0x200, "FLEX_BG", "flexible groups"}, {0x400, "EA_INODE", "large attributes"}, {0x2000, "CSUM_SEED", "checksum seed"},
		{0x4000, "LARGEDIR", "large directories"}, {0x8000, "INLINE_DATA", "data in inodes"},
		{0x10000, "ENCRYPT", "encryption"}, {0x20000, "CASEFOLD", "case folding"},
	}
}

func roNames() []featureName {
	return []featureName{
		{0x1, "SPARSE_SUPER", "sparse copies"}, {0x2, "LARGE_FILE", "files above 2 GiB"},
		{0x4, "BTREE_DIR", "directories as trees"}, {0x8, "HUGE_FILE", "files above 2 TiB"},
		{0x10, "GDT_CSUM", "descriptor checksums"}, {0x20, "DIR_NLINK", "more than 65000 subdirectories"},
		{0x40, "EXTRA_ISIZE", "wide inodes"},
		{0x100, "QUOTA", "quota"}, {0x200, "BIGALLOC", "clusters"}, {0x400, "METADATA_CSUM", "checksums"},
		{0x1000, "READONLY", "permanently read-only"},
		{0x2000, "PROJECT", "project quota"}, {0x8000, "VERITY", "verity"}, {0x10000, "ORPHAN_PRESENT", "orphans present"},
	}
}
