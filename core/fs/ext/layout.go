package ext

// Where the superblock lies and the offsets of its fields, in bytes
// (super.rst).
const (
	superOffset = 1024
	superSize   = 1024

	sbInodes         = 0x00 // u32
	sbBlocksLo       = 0x04 // u32
	sbReservedLo     = 0x08 // u32
	sbFreeBlocksLo   = 0x0C // u32
	sbFreeInodes     = 0x10 // u32
	sbFirstData      = 0x14 // u32
	sbLogBlock       = 0x18 // u32: block size is 1024 << n
	sbLogCluster     = 0x1C // u32
	sbBlocksPerGroup = 0x20 // u32
	sbClustersPer    = 0x24 // u32
	sbInodesPerGroup = 0x28 // u32
	sbMountTime      = 0x2C // u32
	sbWriteTime      = 0x30 // u32
	sbMountCount     = 0x34 // u16
	sbMaxMounts      = 0x36 // u16
	sbMagic          = 0x38 // u16
	sbState          = 0x3A // u16
	sbErrors         = 0x3C // u16
	sbLastCheck      = 0x40 // u32
	sbCheckEvery     = 0x44 // u32, seconds; 0: no limit
	sbRevision       = 0x4C // u32
	sbFirstInode     = 0x54 // u32
	sbInodeSize      = 0x58 // u16
	sbGroupNumber    = 0x5A // u16
	sbCompat         = 0x5C // u32
	sbIncompat       = 0x60 // u32
	sbROCompat       = 0x64 // u32
	sbUUID           = 0x68 // 16 bytes
	sbLabel          = 0x78 // 16 bytes
	sbLastMounted    = 0x88 // 64 bytes
	sbReservedGDT    = 0xCE // u16
	sbJournalInode   = 0xE0 // u32
	sbHashSeed       = 0xEC // 16 bytes
	sbHashVersion    = 0xFC // u8
	sbJournalBackup  = 0xFD // u8
	sbDescSize       = 0xFE // u16
	sbMountOptions   = 0x100
	sbMakeTime       = 0x108
	sbJournalBlocks  = 0x10C // 17 u32: the journal inode's i_block and size
	sbBlocksHi       = 0x150
	sbReservedHi     = 0x154
	sbFreeBlocksHi   = 0x158
	sbMinExtra       = 0x15C // u16
	sbWantExtra      = 0x15E // u16
	sbFlags          = 0x160
	sbStripe         = 0x170 // u32, blocks
	sbLogFlex        = 0x174 // u8
	sbChecksumType   = 0x175 // u8
	sbErrorCount     = 0x194
	sbChecksumSeed   = 0x270
	sbWriteTimeHi    = 0x274 // u8
	sbMountTimeHi    = 0x275 // u8
	sbMakeTimeHi     = 0x276 // u8
	sbLastCheckHi    = 0x277 // u8
	sbChecksum       = 0x3FC

	magicExt = 0xEF53
)

// Group descriptor of 64 bytes (group_descr.rst).
const (
	gdBlockBitmapLo = 0x00
	gdInodeBitmapLo = 0x04
	gdInodeTableLo  = 0x08
	gdFreeBlocksLo  = 0x0C // u16
	gdFreeInodesLo  = 0x0E // u16
	gdUsedDirsLo    = 0x10 // u16
	gdFlags         = 0x12 // u16
	gdBlockCsumLo   = 0x18 // u16
	gdInodeCsumLo   = 0x1A // u16
	gdUnusedLo      = 0x1C // u16
	gdChecksum      = 0x1E // u16
	gdBlockBitmapHi = 0x20
	gdInodeBitmapHi = 0x24
	gdInodeTableHi  = 0x28
	gdFreeBlocksHi  = 0x2C // u16
	gdFreeInodesHi  = 0x2E // u16
	gdUnusedHi      = 0x32 // u16
	gdBlockCsumHi   = 0x38 // u16
	gdInodeCsumHi   = 0x3A // u16
	gdSize          = 64

	inodeUninit = 0x1
	blockUninit = 0x2
)

// Inode of 256 bytes (inodes.rst).
const (
	inMode       = 0x00 // u16
	inSizeLo     = 0x04
	inAccess     = 0x08
	inChange     = 0x0C
	inModify     = 0x10
	inLinks      = 0x1A // u16
	inBlocksLo   = 0x1C // in 512-byte units
	inFlags      = 0x20
	inBlock      = 0x28 // 60 bytes
	inSizeHi     = 0x6C
	inBlocksHi   = 0x74 // u16
	inChecksumLo = 0x7C // u16
	inExtraSize  = 0x80 // u16
	inChecksumHi = 0x82 // u16
	inChangeX    = 0x84
	inModifyX    = 0x88
	inAccessX    = 0x8C
	inCreate     = 0x90
	inCreateX    = 0x94
	inodeSize    = 256
	extraSize    = 32

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
