package ext

import (
	"fmt"
	"slices"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/quantity"
)

// super is the superblock as it lies on the disk: the one description by which it is
// read, written and shown. Source: super.rst of Linux 6.1.
type super struct {
	superFirst
	superTail
}

// superFirst is what revision 1 had.
type superFirst struct {
	Inodes           uint32    `disk:"inodes"`
	BlocksLo         uint32    `disk:"blocks, low half"`
	ReservedLo       uint32    `disk:"reserved blocks, low half"`
	FreeLo           uint32    `disk:"free blocks, low half"`
	FreeInodes       uint32    `disk:"free inodes"`
	FirstData        uint32    `disk:"first data block"`
	LogBlock         uint32    `disk:"block, in bytes"`
	LogCluster       uint32    `disk:"cluster, in bytes"`
	BlocksPerGroup   uint32    `disk:"blocks of a group"`
	ClustersPerGroup uint32    `disk:"clusters of a group"`
	InodesPerGroup   uint32    `disk:"inodes of a group"`
	MountTime        uint32    `disk:"last mount" form:"seconds"`
	WriteTime        uint32    `disk:"last write" form:"seconds"`
	MountCount       uint16    `disk:"mounts since the last check"`
	MaxMounts        int16     `disk:"mounts between checks"`
	Magic            uint16    `disk:"signature" form:"hex"`
	State            uint16    `disk:"state"`
	OnErrors         uint16    `disk:"on errors"`
	MinorRevision    uint16    `disk:"minor revision"`
	CheckTime        uint32    `disk:"last check" form:"seconds"`
	CheckEvery       uint32    `disk:"seconds between checks"`
	MadeFor          uint32    `disk:"made for"`
	Revision         uint32    `disk:"revision"`
	ReserveUser      uint16    `disk:"user of the reserve"`
	ReserveGroup     uint16    `disk:"group of the reserve"`
	FirstInode       uint32    `disk:"first inode of files"`
	InodeSize        uint16    `disk:"inode, in bytes"`
	GroupNumber      uint16    `disk:"group of this copy"`
	Compat           uint32    `disk:"compatible features"`
	Incompat         uint32    `disk:"incompatible features"`
	RO               uint32    `disk:"read-only compatible features"`
	UUID             uuid.UUID `disk:"UUID"`
	Label            [16]byte  `disk:"label" form:"text"`
	LastMounted      [64]byte  `disk:"last mounted at" form:"text"`
	Compression      uint32    `disk:"compression" form:"hex"`
	AheadFiles       uint8     `disk:"blocks to allocate ahead"`
	AheadDirs        uint8     `disk:"blocks to allocate ahead for directories"`
	ReservedGDT      uint16    `disk:"blocks kept for group descriptors"`
	JournalUUID      uuid.UUID `disk:"UUID of the journal"`
	JournalInode     uint32    `disk:"inode of the journal"`
	JournalDevice    uint32    `disk:"device of the journal" form:"hex"`
	LastOrphan       uint32    `disk:"first orphan inode"`
	HashSeed         [16]byte  `disk:"seed of the directory hash"`
	HashVersion      uint8     `disk:"directory hash"`
	JournalBackup    uint8     `disk:"copy of the journal's inode"`
	DescSize         uint16    `disk:"group descriptor, in bytes"`
	MountDefaults    uint32    `disk:"default mount options" form:"hex"`
	FirstMetaGroup   uint32    `disk:"first meta block group"`
	MakeTime         uint32    `disk:"made" form:"seconds"`
	JournalMap       [68]byte  `disk:"journal's block map and size" form:"numbers"`
}

// superTail is what ext4 added.
type superTail struct {
	BlocksHi           uint32    `disk:"blocks, high half"`
	ReservedHi         uint32    `disk:"reserved blocks, high half"`
	FreeHi             uint32    `disk:"free blocks, high half"`
	MinExtra           uint16    `disk:"least extra bytes of an inode"`
	WantExtra          uint16    `disk:"wanted extra bytes of an inode"`
	Flags              uint32    `disk:"flags"`
	Stride             uint16    `disk:"stride of the array, in blocks"`
	MultiMountEvery    uint16    `disk:"seconds between multi-mount checks"`
	MultiMountBlock    uint64    `disk:"block of multi-mount protection"`
	Stripe             uint32    `disk:"stripe of the array, in blocks"`
	LogFlex            uint8     `disk:"groups of a flexible group" form:"power"`
	ChecksumType       uint8     `disk:"checksum"`
	Encryption         uint8     `disk:"encryption"`
	Pad                uint8     `disk:"reserved"`
	Lifetime           uint64    `disk:"KiB written in its life"`
	SnapshotInode      uint32    `disk:"inode of the snapshot"`
	Snapshot           uint32    `disk:"snapshot"`
	SnapshotBlocks     uint64    `disk:"blocks of the snapshot"`
	SnapshotList       uint32    `disk:"list of snapshots"`
	ErrorCount         uint32    `disk:"errors"`
	FirstErrorTime     uint32    `disk:"first error" form:"seconds"`
	FirstErrorInode    uint32    `disk:"first error: inode"`
	FirstErrorBlock    uint64    `disk:"first error: block"`
	FirstErrorFunction [32]byte  `disk:"first error: function" form:"text"`
	FirstErrorLine     uint32    `disk:"first error: line"`
	LastErrorTime      uint32    `disk:"last error" form:"seconds"`
	LastErrorInode     uint32    `disk:"last error: inode"`
	LastErrorLine      uint32    `disk:"last error: line"`
	LastErrorBlock     uint64    `disk:"last error: block"`
	LastErrorFunction  [32]byte  `disk:"last error: function" form:"text"`
	MountOptions       [64]byte  `disk:"mount options" form:"text"`
	UserQuota          uint32    `disk:"inode of user quota"`
	GroupQuota         uint32    `disk:"inode of group quota"`
	Overhead           uint32    `disk:"overhead, in clusters"`
	CopyGroups         [8]byte   `disk:"groups with copies, where only two have them" form:"numbers"`
	Algorithms         [4]byte   `disk:"encryption algorithms"`
	Salt               [16]byte  `disk:"salt of encryption"`
	LostFound          uint32    `disk:"inode of lost+found"`
	ProjectQuota       uint32    `disk:"inode of project quota"`
	ChecksumSeed       uint32    `disk:"seed of checksums" form:"hex"`
	WriteTimeHi        uint8     `disk:"last write, high byte"`
	MountTimeHi        uint8     `disk:"last mount, high byte"`
	MakeTimeHi         uint8     `disk:"made, high byte"`
	CheckTimeHi        uint8     `disk:"last check, high byte"`
	FirstErrorTimeHi   uint8     `disk:"first error, high byte"`
	LastErrorTimeHi    uint8     `disk:"last error, high byte"`
	FirstErrorCode     uint8     `disk:"first error: code"`
	LastErrorCode      uint8     `disk:"last error: code"`
	Encoding           uint16    `disk:"encoding of names"`
	EncodingFlags      uint16    `disk:"flags of the encoding" form:"hex"`
	OrphanFile         uint32    `disk:"inode of the orphan file"`
	Rest               [376]byte `disk:"reserved"`
	Checksum           uint32    `disk:"checksum of the superblock" form:"hex"`
}

// descriptor is that of a block group, of which file systems without 64-bit numbers
// have the first half. Source: group_descr.rst.
type descriptor struct {
	descriptorFirst
	descriptorWide
}

type descriptorFirst struct {
	BlockBitmapLo uint32 `disk:"block of the block bitmap"`
	InodeBitmapLo uint32 `disk:"block of the inode bitmap"`
	InodeTableLo  uint32 `disk:"block of the inode table"`
	FreeBlocksLo  uint16 `disk:"free blocks"`
	FreeInodesLo  uint16 `disk:"free inodes"`
	DirectoriesLo uint16 `disk:"directories"`
	Flags         uint16 `disk:"flags"`
	ExclusionLo   uint32 `disk:"exclusion bitmap"`
	BlockSumLo    uint16 `disk:"checksum of the block bitmap" form:"hex"`
	InodeSumLo    uint16 `disk:"checksum of the inode bitmap" form:"hex"`
	UnusedLo      uint16 `disk:"inodes never used"`
	Checksum      uint16 `disk:"checksum of the descriptor" form:"hex"`
}

// They came with 64-bit block numbers, behind the first 32 bytes, so that a kernel without
// them finds its fields where they were.
type descriptorWide struct {
	BlockBitmapHi uint32  `disk:"block bitmap, high half"`
	InodeBitmapHi uint32  `disk:"inode bitmap, high half"`
	InodeTableHi  uint32  `disk:"inode table, high half"`
	FreeBlocksHi  uint16  `disk:"free blocks, high half"`
	FreeInodesHi  uint16  `disk:"free inodes, high half"`
	DirectoriesHi uint16  `disk:"directories, high half"`
	UnusedHi      uint16  `disk:"inodes never used, high half"`
	ExclusionHi   uint32  `disk:"exclusion bitmap, high half"`
	BlockSumHi    uint16  `disk:"checksum of the block bitmap, high half" form:"hex"`
	InodeSumHi    uint16  `disk:"checksum of the inode bitmap, high half" form:"hex"`
	Rest          [4]byte `disk:"reserved"`
}

// inode is an inode. What is behind its extra fields, up to the inode size, holds
// extended attributes. Source: inodes.rst.
type inode struct {
	inodeFirst
	inodeExtra
}

// inodeFirst is what every inode has.
type inodeFirst struct {
	Mode         uint16   `disk:"type and permissions" form:"hex"`
	UserLo       uint16   `disk:"user, low half"`
	SizeLo       uint32   `disk:"size in bytes, low half"`
	AccessTime   uint32   `disk:"last access" form:"seconds"`
	ChangeTime   uint32   `disk:"last change of the inode" form:"seconds"`
	ModifyTime   uint32   `disk:"last change of the content" form:"seconds"`
	DeleteTime   uint32   `disk:"deleted" form:"seconds"`
	GroupLo      uint16   `disk:"group, low half"`
	Links        uint16   `disk:"links"`
	BlocksLo     uint32   `disk:"units of 512 bytes, low half"`
	Flags        uint32   `disk:"flags" form:"hex"`
	VersionLo    uint32   `disk:"version, low half"`
	Block        [60]byte `disk:"map of its blocks"`
	Generation   uint32   `disk:"generation" form:"hex"`
	AttributesLo uint32   `disk:"block of attributes, low half"`
	SizeHi       uint32   `disk:"size in bytes, high half"`
	Fragment     uint32   `disk:"fragment"`
	BlocksHi     uint16   `disk:"units of 512 bytes, high half"`
	AttributesHi uint16   `disk:"block of attributes, high half"`
	UserHi       uint16   `disk:"user, high half"`
	GroupHi      uint16   `disk:"group, high half"`
	ChecksumLo   uint16   `disk:"checksum, low half" form:"hex"`
	Pad          uint16   `disk:"reserved"`
}

// inodeExtra is what inodes of more than 128 bytes have.
//
// Each inode says how much of this it uses: one that was made before a field existed has
// attributes where the field would be.
type inodeExtra struct {
	ExtraSize  uint16 `disk:"extra bytes in use"`
	ChecksumHi uint16 `disk:"checksum, high half" form:"hex"`
	ChangeX    uint32 `disk:"last change of the inode: epoch and nanoseconds"`
	ModifyX    uint32 `disk:"last change of the content: epoch and nanoseconds"`
	AccessX    uint32 `disk:"last access: epoch and nanoseconds"`
	CreateTime uint32 `disk:"created" form:"seconds"`
	CreateX    uint32 `disk:"created: epoch and nanoseconds"`
	VersionHi  uint32 `disk:"version, high half"`
	Project    uint32 `disk:"project"`
}

// wide joins the halves of a number.
func wide(lo, hi uint32) uint64 { return uint64(lo) | uint64(hi)<<32 }

// The two halves of a number lie apart, since the high one came later, into what had been
// reserved. What has no feature for it has no high halves: their bytes mean nothing then.

// halves are those of a number of at most 64 bits.
func halves(n uint64) (lo, hi uint32) { return uint32(n), uint32(n >> 32) }

// descriptor reads that of a group, of 32 bytes or of more.
func (s *Superblock) descriptor(dev block.Device, group uint64) (descriptor, error) {
	b, _, err := s.rawDescriptor(dev, group)
	if err != nil {
		return descriptor{}, err
	}
	return decodeDescriptor(b)
}

// rawDescriptor is its bytes, which are the caller's own, and the byte at which they lie.
func (s *Superblock) rawDescriptor(dev block.Device, group uint64) (b []byte, at int64, err error) {
	size := s.descriptorSize()
	at = int64(s.descHome(s.shape(), group/s.perDesc()))*int64(s.BlockSize) + int64(group%s.perDesc())*size
	b, err = block.ReadSized(dev, at, size, int64(s.BlockSize))
	if err != nil {
		return nil, 0, fmt.Errorf("descriptor of group %d: %w", group, err)
	}
	return slices.Clone(b), at, nil
}

// descriptorSize is how many bytes one takes: 32, or with 64-bit numbers what the
// superblock says, 64 in all that were ever made.
func (s *Superblock) descriptorSize() int64 {
	if s.Incompat&incompat64Bit == 0 {
		return descriptorShort
	}
	return max(int64(s.disk.DescSize), descriptorShort)
}

func (d *descriptor) inodeTable() uint64 { return wide(d.InodeTableLo, d.InodeTableHi) }

// placeOfInode is the byte at which an inode begins. A damaged descriptor points anywhere:
// what is not inside the device is field.ErrRange.
func (s *Superblock) placeOfInode(dev block.Device, number uint64) (quantity.Bytes, error) {
	group, index := (number-1)/uint64(s.InodesPerGroup), (number-1)%uint64(s.InodesPerGroup)
	d, err := s.descriptor(dev, group)
	if err != nil {
		return 0, err
	}
	table, ok := quantity.Count(d.inodeTable()).Times(s.BlockSize)
	size := quantity.Bytes(dev.Size())
	at := table + quantity.Bytes(index)*s.InodeSize
	if !ok || table <= 0 || at < table || at > size-s.InodeSize {
		return 0, fmt.Errorf("inode %d: its table at block %d: %w on %d bytes", number, d.inodeTable(), field.ErrRange, size)
	}
	return at, nil
}

// inode reads an inode of any size. Fields that it has no room for, or does not use, are
// zeros.
func (s *Superblock) inode(dev block.Device, number uint64) (inode, error) {
	at, err := s.placeOfInode(dev, number)
	if err != nil {
		return inode{}, err
	}
	b, err := block.ReadSized(dev, int64(at), int64(s.InodeSize), int64(s.BlockSize))
	if err != nil {
		return inode{}, fmt.Errorf("inode %d: %w", number, err)
	}
	return decodeInode(b)
}
