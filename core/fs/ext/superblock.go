package ext

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/fs"
	"fundus/core/quantity"
)

// Superblock is what the superblock says. Every byte of it is kept.
type Superblock struct {
	Blocks, Free, Reserved quantity.Count // in blocks
	Inodes, FreeInodes     quantity.Count
	BlockSize              quantity.Bytes
	FirstData              uint64 // the block that group 0 starts with
	BlocksPerGroup         uint32
	InodesPerGroup         uint32
	InodeSize              quantity.Bytes
	Compat, Incompat, RO   uint32
	UUID                   uuid.UUID
	Label                  string
	LastMounted            string
	MountCount             uint16
	Written, Mounted, Made time.Time
	Checked                time.Time
	CheckEvery             uint32 // seconds from one check to the next, 0: none is asked for
	State                  uint16
	ErrorCount             uint32
	disk                   super
}

// crc is the plain CRC-32C that ext4 uses, carried on from seed; the library's
// inverts at both ends.
func crc(seed uint32, p []byte) uint32 {
	return ^crc32.Update(^seed, crc32.MakeTable(crc32.Castagnoli), p)
}

// Read reads the primary superblock of the device.
func Read(dev block.Device) (*Superblock, error) { return readAt(dev, superOffset) }

func readAt(dev block.Device, off int64) (*Superblock, error) {
	raw, err := block.ReadSized(dev, off, superSize, superSize)
	if err != nil {
		return nil, err
	}
	return decodeSuper(raw, off)
}

// A field that was added later is zero in file systems that are older, and means nothing
// where its feature is not set: so ranges are held against the features, and only the
// checksum, where there is one, speaks of the whole.
func decodeSuper(raw []byte, off int64) (*Superblock, error) {
	r := field.New("ext superblock", off, raw, binary.LittleEndian)
	var d super
	if err := field.Decode(raw, binary.LittleEndian, &d); err != nil {
		return nil, fmt.Errorf("ext superblock at byte %d: %w", off, err)
	}
	fail := func(name, goName string, got any, want string, class error) {
		r.Fail(name, field.At(d, goName), got, want, class)
	}
	if d.Magic != magicExt {
		fail("signature", "Magic", fmt.Sprintf("%#04x", d.Magic), "", field.ErrMagic)
	}
	if d.LogBlock > 6 {
		fail("block size", "LogBlock", fmt.Sprintf("1024 << %d", d.LogBlock), "at most 64 KiB", field.ErrRange)
	}
	s := &Superblock{
		BlockSize: 1024 << min(d.LogBlock, 6), FirstData: uint64(d.FirstData), BlocksPerGroup: d.BlocksPerGroup,
		InodesPerGroup: d.InodesPerGroup,
		Inodes:         quantity.Count(d.Inodes), FreeInodes: quantity.Count(d.FreeInodes), InodeSize: 128,
		Compat: d.Compat, Incompat: d.Incompat, RO: d.RO,
		UUID: d.UUID, Label: untilZero(d.Label[:]), LastMounted: untilZero(d.LastMounted[:]), MountCount: d.MountCount, State: d.State,
		ErrorCount: d.ErrorCount, CheckEvery: d.CheckEvery, Checked: when(d.CheckTime, d.CheckTimeHi),
		Written: when(d.WriteTime, d.WriteTimeHi),
		Mounted: when(d.MountTime, d.MountTimeHi), Made: when(d.MakeTime, d.MakeTimeHi), disk: d,
	}
	if s.Incompat&incompat64Bit == 0 { // then the high halves are not defined
		d.BlocksHi, d.FreeHi, d.ReservedHi = 0, 0, 0
	}
	s.Blocks, s.Free, s.Reserved = quantity.Count(wide(d.BlocksLo, d.BlocksHi)), quantity.Count(wide(d.FreeLo, d.FreeHi)), quantity.Count(wide(d.ReservedLo, d.ReservedHi))
	if d.Revision > 0 {
		s.InodeSize = quantity.Bytes(d.InodeSize)
	}
	s.checkRanges(fail)
	if got := s.checksum(raw); s.hasChecksum() && got != d.Checksum {
		fail("checksum", "Checksum", fmt.Sprintf("%#08x", d.Checksum), fmt.Sprintf("%#08x computed", got), field.ErrChecksum)
	}
	if r.Err() != nil {
		return nil, r.Err()
	}
	return s, nil
}

func (s *Superblock) checkRanges(fail func(name, goName string, got any, want string, class error)) {
	most := uint32(8 * s.BlockSize)
	if n := s.BlocksPerGroup; (n == 0 || n > most) && s.Incompat&incompatJournalDev == 0 && s.RO&roBigalloc == 0 {
		fail("blocks per group", "BlocksPerGroup", n, fmt.Sprintf("1 to %d", most), field.ErrRange)
	}
	if n := s.InodesPerGroup; (n == 0 || n > most) && s.Incompat&incompatJournalDev == 0 {
		fail("inodes per group", "InodesPerGroup", n, fmt.Sprintf("1 to %d", most), field.ErrRange)
	}
	if n := s.InodeSize; n < 128 || n > s.BlockSize || n&(n-1) != 0 {
		fail("inode size", "InodeSize", int64(n), "a power of two from 128 to the block size", field.ErrRange)
	}
	if s.Blocks == 0 || uint64(s.Blocks) <= s.FirstData || s.FirstData > 1 {
		fail("blocks", "BlocksLo", uint64(s.Blocks), "more than the first data block", field.ErrRange)
	}
	if s.Free > s.Blocks || s.Reserved > s.Blocks {
		fail("free blocks", "FreeLo", uint64(s.Free), "at most the blocks there are", field.ErrRange)
	}
	if _, ok := s.Blocks.Times(s.BlockSize); !ok {
		fail("blocks", "BlocksLo", uint64(s.Blocks), "", field.ErrRange)
	}
}

func untilZero(b []byte) string {
	text, _, _ := strings.Cut(string(b), "\x00")
	return text
}

func when(lo uint32, hi uint8) time.Time {
	seconds := int64(lo) | int64(hi)<<32
	if seconds == 0 {
		return time.Time{}
	}
	return time.Unix(seconds, 0).UTC()
}

func (s *Superblock) hasChecksum() bool { return s.RO&roMetadataCsum != 0 }

// maxMounts is after how many mounts a check is due; 0 or less for never.
func (s *Superblock) maxMounts() int { return int(s.disk.MaxMounts) }

// stripe is that of the array which the file system was made for.
func (s *Superblock) stripe() quantity.Bytes {
	return quantity.Bytes(s.disk.Stripe) * s.BlockSize
}

// Size is blocks times block size.
func (s *Superblock) Size() quantity.Bytes {
	size, _ := s.Blocks.Times(s.BlockSize) // decodeSuper refused what overflows
	return size
}

// Groups is how many block groups there are.
func (s *Superblock) Groups() uint64 {
	n := uint64(max(s.BlocksPerGroup, 1))
	return (uint64(s.Blocks) - s.FirstData + n - 1) / n
}

// Kind is ext2, ext3 or ext4, by the features.
//
// The three are one format with more and more features; one driver mounts them all. What it
// is called follows from the features: anything of ext4 makes it ext4, else a journal ext3.
func (s *Superblock) Kind() string {
	if s.Incompat&incompatJournalDev != 0 {
		return "ext journal"
	}
	return s.variant().String()
}

func (s *Superblock) variant() Variant {
	const ext4Incompat, ext4RO = ^uint32(incompatFileType | incompatRecover | incompatJournalDev | incompatMetaBG), ^uint32(roSparseSuper | roLargeFile | 0x4)
	switch {
	case s.Incompat&ext4Incompat != 0 || s.RO&ext4RO != 0:
		return Ext4
	case s.Compat&compatJournal != 0:
		return Ext3
	}
	return Ext2
}

// Features lists what the features that are set mean, in plain words.
func (s *Superblock) Features() (words []string) {
	set, _ := s.features()
	for _, f := range set {
		words = append(words, f.Meaning)
	}
	return words
}

// Unknown lists feature bits that have no name here.
func (s *Superblock) Unknown() []string {
	_, unknown := s.features()
	return unknown
}

func (s *Superblock) features() (known []fs.Feature, unknown []string) {
	for _, set := range []struct {
		word, constant string
		bits           uint32
		known          []featureName
	}{
		{"compatible", "COMPAT_", s.Compat, compatNames()},
		{"incompatible", "INCOMPAT_", s.Incompat, incompatNames()},
		{"read-only", "RO_COMPAT_", s.RO, roNames()},
	} {
		rest := set.bits
		for _, f := range set.known {
			if rest&f.bit != 0 {
				known = append(known, fs.Feature{
					Field:    set.word,
					Bit:      f.bit,
					Constant: "EXT4_FEATURE_" + set.constant + f.constant,
					Meaning:  f.name,
				})
				rest &^= f.bit
			}
		}
		// Compatible features ask nothing of who does not know them.
		for bit := uint32(1); bit != 0; bit <<= 1 {
			if rest&bit != 0 && set.word != "compatible" {
				unknown = append(unknown, fmt.Sprintf("%s %#x", set.word, bit))
			}
		}
	}
	return known, unknown
}

// FileState says how the file system was left.
func (s *Superblock) FileState() fs.State {
	switch {
	case s.ErrorCount > 0 || s.State&2 != 0: // before all else: a replay does not take them away
		return fs.Errors
	case s.Incompat&incompatRecover != 0:
		return fs.Recovery
	case s.State&1 == 0: // without a journal this is all that tells
		return fs.Dirty
	}
	return fs.Clean
}

// backupGroups lists the groups below n that keep a copy of superblock and
// descriptors, in order, without group 0: with sparse_super 1 and the powers
// of 3, 5 and 7, else all, of which at most maxBackups are listed.
//
// Copies in every group would cost a large disk gigabytes; powers of three primes lie dense
// at the beginning and far apart later, so that some of them survive whatever is
// overwritten.
func backupGroups(n uint64, sparse bool) []uint64 {
	var out []uint64
	if !sparse {
		for g := uint64(1); g < n && g <= maxBackups; g++ {
			out = append(out, g)
		}
		return out
	}
	if n > 1 {
		out = append(out, 1)
	}
	for _, base := range []uint64{3, 5, 7} {
		for power := base; power < n && power <= math.MaxUint32; power *= base {
			out = append(out, power)
		}
	}
	slices.Sort(out)
	return out
}

// maxBackups bounds the list for old file systems without sparse_super; the
// kernel itself needs one copy.
const maxBackups = 4096

// Backups lists the blocks with backup superblocks.
func (s *Superblock) Backups() []uint64 {
	var out []uint64
	for _, g := range backupGroups(s.Groups(), s.RO&roSparseSuper != 0) {
		out = append(out, s.FirstData+g*uint64(s.BlocksPerGroup))
	}
	return out
}

// checksum is that of the bytes of a superblock: of all before the checksum itself.
func (*Superblock) checksum(raw []byte) uint32 { return crc(^uint32(0), raw[:superSize-4]) }

// sealed gives the bytes, with a new checksum where they have one.
func (s *Superblock) sealed() []byte {
	if s.hasChecksum() {
		s.disk.Checksum = s.checksum(field.Encode(binary.LittleEndian, &s.disk))
	}
	return field.Encode(binary.LittleEndian, &s.disk)
}
