// Package sample builds small images of every kind that a probe recognises,
// byte by byte, for the tests: those of the probes, and the kernel proof, where
// udev looks at the same images. The offsets are written out anew, from the
// headers and specifications that package probe names, and checksums are worked
// out bit by bit, so that a mistake there is not repeated here.
package sample

import (
	"bytes"
	"encoding/binary"
	"unicode/utf16"
)

// Sample is one image, and what it holds.
type Sample struct {
	Name   string // of the case
	Size   int64  // bytes
	Pieces map[int64][]byte
	Kind   string // what the probe must say
	Label  string
	UUID   string
	Length int64 // by its own superblock, bytes; 0 where not recorded
	// Udev is what udev says otherwise, by the names of its properties; an empty
	// value means that it says nothing.
	Udev map[string]string
}

// otherName: udev has another word for the kind.
func otherName(word string) map[string]string { return map[string]string{"TYPE": word} }

// silent: udev does not recognise the sample; what it misses there is not known.
//
// They follow their specifications, and the kernel mounts those that it can: which further
// field udev's prober wants to see is not open to look at.
func silent() map[string]string { return map[string]string{"TYPE": "", "UUID": "", "LABEL": ""} }

// page is a structure that is filled in.
type page struct {
	b     []byte
	order binary.ByteOrder
}

func newPage(n int, order binary.ByteOrder) page { return page{make([]byte, n), order} }

func (p page) text(off int, s string) page { copy(p.b[off:], s); return p }
func (p page) u16(off int, v uint16) page  { p.order.PutUint16(p.b[off:], v); return p }
func (p page) u32(off int, v uint32) page  { p.order.PutUint32(p.b[off:], v); return p }
func (p page) u64(off int, v uint64) page  { p.order.PutUint64(p.b[off:], v); return p }
func (p page) wide(off int, s string) page {
	for i, u := range utf16.Encode([]rune(s)) {
		p.order.PutUint16(p.b[off+2*i:], u)
	}
	return p
}

// crc goes through the bytes bit by bit: reflected, from the register, not
// inverted at the end.
func crc(polynomial, register uint32, data []byte) uint32 {
	for _, b := range data {
		register ^= uint32(b)
		for range 8 {
			low := register & 1
			register >>= 1
			if low == 1 {
				register ^= polynomial
			}
		}
	}
	return register
}

const (
	ieee       = 0xEDB88320
	castagnoli = 0x82F63B78
	id         = "\x5e\xed\x5e\xed\x00\x00\x40\x00\x80\x00\x00\x00\x00\x02\x04\x17"
	idText     = "5eed5eed-0000-4000-8000-000000020417"
)

var (
	le = binary.LittleEndian
	be = binary.BigEndian
)

// All lists the samples.
func All() []Sample {
	return []Sample{
		btrfs(), f2fs(), iso("HERBARIUM", false), iso("HERBARIUM", true), udf(), squashfs(), erofs(), ntfs(), exfat(),
		luks1(), luks2(), physicalVolume(),
		bcache(), bitLocker(), jfs(), reiserfs(), nilfs2(), hfsPlus(), apfs(), minix(), zfs(), xfsLog(),
		swap(4096, "SWAPSPACE2"), swap(4096, "S1SUSPEND"),
		fat("FAT12", 12), fat("FAT16", 16), fat("FAT32", 32), raid("1.2", 4096), raid("1.1", 0),
		raid("1.0", (8<<20/512-16)&^7*512), extended(false), extended(true),
	}
}

// Each function below puts down what its format needs to be believed, and a label and an
// identifier where it has them; everything else is zeros, as nobody reads it.
func btrfs() Sample {
	pieces := map[int64][]byte{}
	for _, at := range []int64{64 << 10, 64 << 20} { // the first superblock, and its copy
		p := newPage(4096, le).text(32, id).u64(48, uint64(at)).text(64, "_BHRfS_M").u64(72, 7).u64(112, 256<<20).u64(120, 1<<20).u64(136, 1).
			u32(144, 4096).u32(148, 16384).u32(152, 16384).u32(156, 4096).u64(201, 1).u64(209, 256<<20).text(267, id).text(299, "herbarium")
		p.u32(0, ^crc(castagnoli, ^uint32(0), p.b[32:]))
		pieces[at] = p.b
	}
	return Sample{Name: "btrfs", Size: 256 << 20, Pieces: pieces, Kind: "btrfs", Label: "herbarium", UUID: idText, Length: 256 << 20}
}

func f2fs() Sample {
	p := newPage(3072, le).u32(0, 0xF2F52010).u16(4, 1).u16(6, 16).u32(8, 9).u32(12, 3).u32(16, 12).u32(20, 9).u32(24, 1).u32(28, 1).u64(36, 16384).
		u32(44, 24).u32(48, 31).text(108, id).wide(124, "herbarium")
	return Sample{
		Name:   "f2fs",
		Size:   64 << 20,
		Pieces: map[int64][]byte{1024: p.b},
		Kind:   "f2fs",
		Label:  "herbarium",
		UUID:   idText,
		Length: 64 << 20,
	}
}

// both writes a number in both byte orders, the little-endian one first.
func (p page) both(off int, v uint32) page {
	le.PutUint32(p.b[off:], v)
	be.PutUint32(p.b[off+4:], v)
	return p
}

func (p page) both16(off int, v uint16) page {
	le.PutUint16(p.b[off:], v)
	be.PutUint16(p.b[off+2:], v)
	return p
}

func pad(s string, n int) string {
	for len(s) < n {
		s += " "
	}
	return s
}

// iso is a volume with an empty root directory, with or without Joliet.
func iso(label string, joliet bool) Sample {
	descriptor := func(kind byte, name string) page {
		p := newPage(2048, le).text(1, "CD001\x01").text(8, pad("", 64)).text(40, name).both(80, 64).both16(120, 1).both16(124, 1).both16(128, 2048).both(132, 10)
		p.b[0] = kind
		p.u32(140, 20)                         // path table
		be.PutUint32(p.b[148:], 21)            // the same, big-endian
		root := p.b[156:]                      // record of the root directory
		root[0], root[25], root[32] = 34, 2, 1 // length, a directory, one byte of name
		page{root, le}.both(2, 22).both(10, 2048).both16(28, 1)
		p.text(813, "2026030108000000").text(830, "2026030108000000")
		p.b[881] = 1
		return p
	}
	pieces := map[int64][]byte{32768: descriptor(1, pad(label, 32)).b}
	last := int64(34816)
	if joliet {
		wide := page{make([]byte, 32), be}
		for i := range 16 {
			wide.u16(2*i, ' ')
		}
		wide.wide(0, "Herbarium sheets")
		pieces[last] = descriptor(2, string(wide.b)).text(88, "%/E").b
		last += 2048
		label = "Herbarium sheets"
	}
	end := newPage(2048, le).text(1, "CD001\x01")
	end.b[0] = 255
	pieces[last] = end.b
	root := newPage(2048, le) // "." and ".."
	for i := range 2 {
		r := page{root.b[34*i:], le}
		r.b[0], r.b[25], r.b[32], r.b[33] = 34, 2, 1, byte(i)
		r.both(2, 22).both(10, 2048).both16(28, 1)
	}
	pieces[22*2048] = root.b
	return Sample{
		Name:   map[bool]string{false: "iso9660", true: "iso9660 with Joliet"}[joliet],
		Size:   1 << 20,
		Pieces: pieces,
		Kind:   "iso9660",
		Label:  label,
		UUID:   "2026-03-01-08-00-00-00",
		Length: 64 * 2048,
	}
}

// tag seals a descriptor of UDF: its kind, the sum of the tag's other bytes, and
// the CRC of what follows (ECMA-167 7.2, the CCITT polynomial).
func tag(p page, kind uint16, at uint32) []byte {
	p.u16(0, kind).u16(2, 2).u16(10, uint16(len(p.b)-16)).u32(12, at)
	sum := uint16(0)
	for _, b := range p.b[16:] {
		sum ^= uint16(b) << 8
		for range 8 {
			high := sum & 0x8000
			sum <<= 1
			if high != 0 {
				sum ^= 0x1021
			}
		}
	}
	p.u16(8, sum)
	p.b[4] = 0
	for i, b := range p.b[:16] {
		if i != 4 {
			p.b[4] += b
		}
	}
	return p.b
}

// dstring has its characters' bits first and its length last.
func dstring(s string, n int) string {
	b := make([]byte, n)
	b[0] = 8
	copy(b[1:], s)
	b[n-1] = byte(len(s) + 1)
	return string(b)
}

func udf() Sample {
	pieces := map[int64][]byte{}
	for i, name := range []string{"BEA01", "NSR02", "TEA01"} {
		pieces[32768+int64(i)*2048] = []byte("\x00" + name + "\x01")
	}
	anchor := newPage(512, le).u32(16, 16*2048).u32(20, 32).u32(24, 16*2048).u32(28, 32)
	pieces[256*2048] = tag(anchor, 2, 256)
	primary := newPage(512, le).u32(16, 1).text(24, dstring("herbarium", 32)).u16(56, 1).u16(58, 1).u16(60, 2).u16(62, 3).text(72, dstring("5eed5eed00020417herbarium", 128))
	pieces[32*2048] = tag(primary, 1, 32)
	logical := newPage(512, le).u32(16, 2).text(84, dstring("herbarium", 128)).u32(212, 2048).
		text(216, "\x00*OSTA UDF Compliant\x00\x00\x00\x00\x02\x01")
	pieces[33*2048] = tag(logical, 6, 33)
	pieces[34*2048] = tag(newPage(512, le), 8, 34)
	return Sample{
		Name:   "udf",
		Size:   4 << 20,
		Pieces: pieces,
		Kind:   "udf",
		Label:  "herbarium",
		UUID:   "5eed5eed00020417",
		// Udev says nothing of either here; why is not known.
		Udev: map[string]string{"UUID": "", "LABEL": ""},
	}
}

func squashfs() Sample {
	p := newPage(96, le).text(0, "hsqs").u32(4, 1).u32(8, 1772352000).u32(12, 131072).u16(20, 1).u16(22, 17).u16(26, 1).u16(28, 4).u64(40, 300)
	return Sample{Name: "squashfs", Size: 1 << 20, Pieces: map[int64][]byte{0: p.b}, Kind: "squashfs", Length: 300}
}

// erofs has one empty directory, so that Linux mounts it.
func erofs() Sample {
	p := newPage(3072, le).u32(0, 0xE0F5E1E2).u32(8, 1).u16(14, 36).u64(16, 1).u32(36, 2).text(48, id).text(64, "herbarium")
	p.b[12] = 12
	inode := page{p.b[128:], le} // number 36: 1152 bytes into the block
	inode.u16(0, 0).u16(4, 0o40755).u16(6, 2).u32(8, 27).u32(16, 1).u32(20, 1)
	dir := newPage(4096, le) // "." and "..", to the same inode
	dir.u64(0, 36).u16(8, 24).u64(12, 36).u16(20, 25).text(24, "...")
	dir.b[10], dir.b[22] = 2, 2
	p.u32(4, crc(castagnoli, ^uint32(0), p.b))
	return Sample{
		Name:   "erofs",
		Size:   1 << 20,
		Pieces: map[int64][]byte{1024: p.b, 4096: dir.b},
		Kind:   "erofs",
		Label:  "herbarium",
		UUID:   idText,
		Length: 8192,
	}
}

func ntfs() Sample {
	boot := newPage(512, le).text(0, "\xEB\x52\x90NTFS    ").u16(11, 512).u64(40, 16383).u64(48, 4).u64(56, 2).u64(72, 0x5EED00000002A417).u16(510, 0xAA55)
	boot.b[13], boot.b[21], boot.b[64], boot.b[68] = 8, 0xF8, 0xF6, 1
	record := newPage(1024, le).text(0, "FILE").u16(4, 48).u16(6, 3).u16(20, 56).u16(22, 1).u32(24, 400).u32(28, 1024).u16(48, 7)
	name := page{record.b[56:], le}
	name.u32(0, 0x60).u32(4, 48).u32(16, 18).u16(20, 24).wide(24, "herbarium")
	info := page{record.b[104:], le}
	info.u32(0, 0x70).u32(4, 40).u32(16, 12).u16(20, 24)
	info.b[32], info.b[33] = 3, 1
	record.u32(144, 0xFFFFFFFF)
	for i, end := range []int{510, 1022} { // the last bytes of both sectors go into the list
		copy(record.b[50+2*i:52+2*i], record.b[end:end+2])
		record.u16(end, 7)
	}
	mft := newPage(1024, le)
	copy(mft.b, record.b)
	return Sample{
		Name:   "ntfs",
		Size:   8 << 20,
		Pieces: map[int64][]byte{0: boot.b, 4 * 4096: mft.b, 4*4096 + 3*1024: record.b},
		Kind:   "ntfs",
		Label:  "herbarium",
		UUID:   "5EED00000002A417",
		Length: 16383 * 512,
	}
}

// exfat has a root directory with a bitmap, an up-case table and a label, so
// that Linux mounts it.
func exfat() Sample {
	const sector, fat, heap, clusters = 512, 24, 40, 2008
	boot := newPage(512, le).text(0, "\xEB\x76\x90EXFAT   ").u64(72, 2048).u32(80, fat).u32(84, 16).u32(88, heap).u32(92, clusters).u32(96, 4).u32(100, 0x5EED0417).u16(104, 0x100).u16(510, 0xAA55)
	boot.b[108], boot.b[109], boot.b[110], boot.b[111], boot.b[112] = 9, 0, 1, 0x80, 0
	region := make([]byte, 11*sector)
	copy(region, boot.b)
	for i := 1; i <= 8; i++ {
		le.PutUint32(region[i*sector+508:], 0xAA550000)
	}
	sum := uint32(0)
	for i, b := range region {
		if i != 106 && i != 107 && i != 112 {
			sum = sum<<31 | sum>>1
			sum += uint32(b)
		}
	}
	sums := newPage(sector, le)
	for i := 0; i < sector; i += 4 {
		sums.u32(i, sum)
	}
	table := newPage(4096, le).u32(0, 0xFFFFFFF8).u32(4, 0xFFFFFFFF).u32(8, 0xFFFFFFFF).u32(12, 0xFFFFFFFF).u32(16, 0xFFFFFFFF)
	upcase := newPage(512, le) // cluster 3: every letter is itself, in short
	upcase.u16(0, 0xFFFF).u16(2, 0xFFFF)
	upSum := uint32(0)
	for _, b := range upcase.b[:4] {
		upSum = upSum<<31 | upSum>>1
		upSum += uint32(b)
	}
	dir := newPage(sector, le) // cluster 4
	dir.b[0], dir.b[1] = 0x83, 9
	dir.wide(2, "herbarium")
	dir.b[32] = 0x81
	dir.u32(32+20, 2).u64(32+24, (clusters+7)/8)
	dir.b[64] = 0x82
	dir.u32(64+4, upSum).u32(64+20, 3).u64(64+24, 4)
	bitmap := newPage(sector, le)
	bitmap.b[0] = 7
	return Sample{Name: "exfat", Size: 1 << 20,
		Pieces: map[int64][]byte{
			0:                   region,
			11 * sector:         sums.b,
			12 * sector:         append(region, sums.b...),
			fat * sector:        table.b,
			heap * sector:       bitmap.b,
			(heap + 1) * sector: upcase.b,
			(heap + 2) * sector: dir.b,
		},
		Kind: "exfat", Label: "herbarium", UUID: "5EED-0417", Length: 1 << 20, Udev: silent()}
}

func luks1() Sample {
	p := newPage(1024, be).text(0, "LUKS\xBA\xBE").u16(6, 1).text(8, "aes").text(40, "xts-plain64").text(72, "sha256").u32(104, 4096).u32(108, 64).text(168, idText)
	return Sample{
		Name:   "LUKS 1",
		Size:   1 << 20,
		Pieces: map[int64][]byte{0: p.b},
		Kind:   "LUKS",
		UUID:   idText,
		Udev:   otherName("crypto_LUKS"),
	}
}

func luks2() Sample {
	p := newPage(4096, be).text(0, "LUKS\xBA\xBE").u16(6, 2).u64(8, 16384).u64(16, 1).text(24, "herbarium").text(72, "sha256").text(168, idText)
	return Sample{
		Name:   "LUKS 2",
		Size:   1 << 20,
		Pieces: map[int64][]byte{0: p.b},
		Kind:   "LUKS",
		Label:  "herbarium",
		UUID:   idText,
		Udev:   otherName("crypto_LUKS"),
	}
}

func physicalVolume() Sample {
	p := newPage(512, le).text(0, "LABELONE").u64(8, 1).u32(20, 32).text(24, "LVM2 001").text(32, "5eedAAbbbbCCCCddddEEEEffffGGGGgg").u64(64, 8<<20)
	p.u32(16, crc(ieee, 0xF597A6CF, p.b[20:]))
	return Sample{
		Name:   "physical volume",
		Size:   8 << 20,
		Pieces: map[int64][]byte{512: p.b},
		Kind:   "physical volume",
		UUID:   "5eedAA-bbbb-CCCC-dddd-EEEE-ffff-GGGGgg",
		Length: 8 << 20,
		Udev:   otherName("LVM2_member"),
	}
}

func bcache() Sample {
	p := newPage(512, le).u64(8, 8).u64(16, 1).
		text(24, "\xC6\x85\x73\xF6\x4E\x1A\x45\xCA\x82\x65\xF5\x7F\x48\xBA\x6D\x81").text(40, id).text(72, "herbarium").u16(204, 0).u64(208, 16)
	crc64 := ^uint64(0) // its checksum: CRC-64 of ECMA-182, from 8 on, most significant bit first
	for _, b := range p.b[8:208] {
		crc64 ^= uint64(b) << 56
		for range 8 {
			high := crc64 >> 63
			crc64 <<= 1
			if high == 1 {
				crc64 ^= 0x42F0E1EBA9EA3693
			}
		}
	}
	p.u64(0, ^crc64)
	return Sample{
		Name:   "bcache",
		Size:   8 << 20,
		Pieces: map[int64][]byte{4096: p.b},
		Kind:   "bcache",
		Label:  "herbarium",
		UUID:   idText,
		// udev does not read it.
		Udev: map[string]string{"LABEL": ""},
	}
}

func bitLocker() Sample {
	p := newPage(512, le).text(0, "\xEB\x58\x90-FVE-FS-").u16(11, 512).u16(510, 0xAA55)
	p.b[13] = 8
	p.u64(176, 65536) // where its own header is
	header := newPage(512, le).text(0, "-FVE-FS-").u16(8, 512).u16(10, 2)
	return Sample{Name: "BitLocker", Size: 1 << 20, Pieces: map[int64][]byte{0: p.b, 65536: header.b}, Kind: "BitLocker", Udev: silent()}
}

func jfs() Sample {
	p := newPage(512, le).text(0, "JFS1").u32(4, 2).u64(8, 32768).u32(16, 4096).u16(20, 12).u16(22, 3).u32(24, 512).u16(28, 9).text(136, id).text(152, "herbarium")
	return Sample{
		Name:   "jfs",
		Size:   16 << 20,
		Pieces: map[int64][]byte{32768: p.b},
		Kind:   "jfs",
		Label:  "herbarium",
		UUID:   idText,
		Length: 16 << 20,
	}
}

func reiserfs() Sample {
	p := newPage(204, le).u32(0, 8192).u32(4, 100).u32(12, 18).u16(44, 4096).u16(50, 1).text(52, "ReIsEr2Fs").text(84, id).text(100, "herbarium")
	return Sample{
		Name:   "reiserfs",
		Size:   32 << 20,
		Pieces: map[int64][]byte{65536: p.b},
		Kind:   "reiserfs",
		Label:  "herbarium",
		UUID:   idText,
		Length: 32 << 20,
	}
}

func nilfs2() Sample {
	p := newPage(1024, le).u32(0, 2).u16(6, 0x3434).u16(8, 280).u32(12, 0x5EED).u32(20, 2).u64(24, 7).u64(32, 64<<20).u64(80, 1000).u16(116, 1).text(152, id).text(168, "herbarium")
	p.u32(16, crc(ieee, 0x5EED, p.b[:280]))
	return Sample{
		Name:   "nilfs2",
		Size:   64 << 20,
		Pieces: map[int64][]byte{1024: p.b},
		Kind:   "nilfs2",
		Label:  "herbarium",
		UUID:   idText,
		Length: 64 << 20,
	}
}

func hfsPlus() Sample {
	p := newPage(512, be).text(0, "H+").u16(2, 4).u32(4, 1<<8).u32(40, 4096).u32(44, 256).u32(48, 200).text(104, "\x5e\xed\x5e\xed\x00\x02\x04\x17").
		u64(272, 8192).u32(272+12, 2).u32(272+16, 10).u32(272+20, 2)
	header := newPage(4096, be).u32(24, 1).u32(28, 1).u16(32, 4096).u16(10, 3)
	header.b[8] = 1
	header.u16(14, 1).u32(16, 1)
	leaf := newPage(4096, be).u16(10, 1).u16(14, 6+18).u32(16, 1).u16(20, 9).wide(22, "herbarium").u16(4094, 14)
	leaf.b[8], leaf.b[9] = 0xFF, 1
	header.u16(14, 1).u32(16, 1).u32(20, 1).u32(24, 1).u32(28, 1).u16(32, 4096)
	return Sample{
		Name:   "hfsplus",
		Size:   1 << 20,
		Pieces: map[int64][]byte{1024: p.b, 10 * 4096: header.b, 11 * 4096: leaf.b},
		Kind:   "hfsplus",
		Label:  "herbarium",
		UUID:   "65ce16e2-460f-3bef-bb82-3f02736f51fd",
		Length: 1 << 20,
	}
}

func apfs() Sample {
	p := newPage(4096, le).u64(8, 1).u64(16, 7).u32(24, 0x80000001).text(32, "NXSB").u32(36, 4096).u64(40, 256).text(72, id)
	const modulus = 1<<32 - 1
	a, b := uint64(0), uint64(0)
	for i := 8; i < 4096; i += 4 {
		a = (a + uint64(le.Uint32(p.b[i:]))) % modulus
		b = (b + a) % modulus
	}
	first := modulus - (a+b)%modulus
	second := modulus - (a+first)%modulus
	p.u64(0, second<<32|first)
	return Sample{Name: "apfs", Size: 1 << 20, Pieces: map[int64][]byte{0: p.b}, Kind: "apfs", UUID: idText, Length: 1 << 20}
}

// minix is version 1 with long names and an empty root directory, so that Linux
// mounts it.
func minix() Sample {
	const inodes, zones, first = 32, 256, 5
	p := newPage(1024, le).u16(0, inodes).u16(2, zones).u16(4, 1).u16(6, 1).u16(8, first).u32(12, 268966912).u16(16, 0x138F).u16(18, 1)
	imap, zmap := newPage(1024, le), newPage(1024, le)
	fill := func(b []byte, from, to int) {
		for i := from; i < to; i++ {
			b[i/8] |= 1 << (i % 8)
		}
	}
	fill(imap.b, 0, 2)
	fill(imap.b, inodes+1, 8192)
	fill(zmap.b, 0, 2)
	fill(zmap.b, zones-first+1, 8192)
	inode := newPage(1024, le).u16(0, 0o40755).u32(4, 64).u16(14, first)
	inode.b[13] = 2
	root := newPage(1024, le).u16(0, 1).text(2, ".").u16(32, 1).text(34, "..")
	return Sample{
		Name:   "minix",
		Size:   zones * 1024,
		Pieces: map[int64][]byte{1024: p.b, 2048: imap.b, 3072: zmap.b, 4096: inode.b, 5120: root.b},
		Kind:   "minix",
		Length: zones * 1024,
	}
}

// pair is a name with its value, in a list of ZFS.
func pair(name string, kind uint32, value []byte) []byte {
	padded := (len(name) + 3) &^ 3
	n := 8 + 4 + padded + 8 + len(value)
	p := newPage(n, be).u32(0, uint32(n)).u32(4, uint32(n+8)).u32(8, uint32(len(name))).text(12, name).u32(12+padded, kind).u32(16+padded, 1)
	copy(p.b[20+padded:], value)
	return p.b
}

func zfs() Sample {
	number := func(v uint64) []byte { return be.AppendUint64(nil, v) }
	list := newPage(12, be).u32(0, 0x01010000).u32(8, 1).b
	for _, p := range [][]byte{
		pair("version", 8, number(5000)), pair("name", 9, append(be.AppendUint32(nil, 9), "herbarium\x00\x00\x00"...)),
		pair("pool_guid", 8, number(5950000000000020417)), pair("guid", 8, number(77)),
	} {
		list = append(list, p...)
	}
	list = append(list, make([]byte, 8)...)
	pieces := map[int64][]byte{}
	const size = 64 << 20
	uber := newPage(1024, le).u64(0, 0x00bab10c).u64(8, 5000).u64(16, 4).b
	for _, label := range []int64{0, 256 << 10, size - 512<<10, size - 256<<10} {
		pieces[label+16<<10] = list
		for i := range int64(8) {
			pieces[label+128<<10+i*1024] = uber
		}
	}
	return Sample{
		Name:   "ZFS member",
		Size:   size,
		Pieces: pieces,
		Kind:   "ZFS member",
		Label:  "herbarium",
		UUID:   "5950000000000020417",
		Udev:   otherName("zfs_member"),
	}
}

func xfsLog() Sample {
	p := newPage(512, be).u32(0, 0xFEEDBABE).u32(4, 1).u32(8, 2).u32(12, 512).u32(300, 1).text(304, id)
	return Sample{
		Name:   "XFS log",
		Size:   16 << 20,
		Pieces: map[int64][]byte{0: p.b},
		Kind:   "XFS log",
		UUID:   idText,
		// udev does not read it.
		Udev: map[string]string{"TYPE": "xfs_external_log", "UUID": ""},
	}
}

func swap(size int64, magic string) Sample {
	p := newPage(int(size), le).u32(1024, 1).u32(1028, 255).text(1036, id).text(1052, "herbarium").text(int(size)-10, magic)
	s := Sample{
		Name:   "swap, " + magic,
		Size:   1 << 20,
		Pieces: map[int64][]byte{0: p.b},
		Kind:   "swap",
		Label:  "herbarium",
		UUID:   idText,
		Length: 1 << 20,
	}
	if magic != "SWAPSPACE2" {
		s.Udev = otherName("swsuspend")
	}
	return s
}

func raid(version string, at int64) Sample {
	p := newPage(512, le).u32(0, 0xa92b4efc).u32(4, 1).text(16, id).text(32, "fernhill:herbarium").u32(72, 1).u64(80, 2048).u32(92, 2).u64(128, 2048).u64(136, 2048).u64(144, uint64(at/512)).u32(220, 128)
	sum := uint64(0)
	for i := 0; i < 512; i += 4 {
		sum += uint64(le.Uint32(p.b[i:]))
	}
	p.u32(216, uint32(sum)+uint32(sum>>32))
	return Sample{
		Name:   "RAID member " + version,
		Size:   8 << 20,
		Pieces: map[int64][]byte{at: p.b},
		Kind:   "RAID member",
		Label:  "fernhill:herbarium",
		UUID:   idText,
		Length: 1 << 20,
		Udev:   otherName("linux_raid_member"),
	}
}

// fat is a volume with its tables and a root directory, whole enough to be
// mounted: FAT12 as on a diskette, with a label in the boot sector alone; FAT16
// and FAT32 with one in the root directory, which differs from the boot sector's.
func fat(name string, bits int) Sample {
	type shape struct{ sectors, cluster, reserved, table, root int }
	is := map[int]shape{12: {2880, 1, 1, 9, 224}, 16: {32768, 4, 1, 32, 512}, 32: {70000, 1, 32, 540, 0}}[bits]
	boot := newPage(512, le).text(0, "\xEB\x3C\x90fernhill").u16(11, 512).u16(14, uint16(is.reserved)).u16(17, uint16(is.root)).u16(24, 32).u16(26, 64).u16(510, 0xAA55)
	boot.b[13], boot.b[16], boot.b[21] = byte(is.cluster), 2, 0xF8
	if is.sectors < 65536 {
		boot.u16(19, uint16(is.sectors))
	} else {
		boot.u32(32, uint32(is.sectors))
	}
	tail := 36 // drive, state, signature, serial number, label, kind
	table := newPage(512, le).u32(0, 0xFFFFFFF8)
	if bits == 32 {
		tail = 64
		boot.u32(36, uint32(is.table)).u32(44, 2).u16(48, 1).u16(50, 6)
		table.u32(0, 0x0FFFFFF8).u32(4, 0x0FFFFFFF).u32(8, 0x0FFFFFF8)
	} else {
		boot.u16(22, uint16(is.table))
	}
	boot.b[tail], boot.b[tail+2] = 0x80, 0x29
	boot.u32(tail+3, 0x5EED0417).text(tail+7, "FIELDCARD  ").text(tail+18, (name + "        ")[:8])
	pieces := map[int64][]byte{0: boot.b}
	at := int64(is.reserved) * 512
	for i := range int64(2) {
		pieces[at+i*int64(is.table)*512] = table.b
	}
	dir := newPage(64, le)
	label := ""
	if bits > 12 {
		label = "HERBARIUM"
		dir.text(0, "HERBARIUM  \x08")
	}
	pieces[at+2*int64(is.table)*512] = dir.b
	if bits == 32 {
		info := newPage(512, le).u32(0, 0x41615252).u32(484, 0x61417272).u32(488, 68000).u32(492, 3).u32(508, 0xAA550000)
		pieces[512], pieces[6*512], pieces[7*512] = info.b, boot.b, info.b
	}
	size := int64(is.sectors) * 512
	return Sample{
		Name:   name,
		Size:   size,
		Pieces: pieces,
		Kind:   name,
		Label:  label,
		UUID:   "5EED-0417",
		Length: size,
		Udev:   otherName("vfat"),
	}
}

// extended is the second extended file system or, with a journal, the third: one
// group of blocks of 1 KiB without extents, with an empty root directory, so that
// Linux mounts it.
func extended(journal bool) Sample {
	const blocks, inodes, table, root, log, logBlocks = 2048, 64, 5, 13, 32, 1024
	s := Sample{
		Name:   "ext2",
		Size:   blocks << 10,
		Pieces: map[int64][]byte{},
		Kind:   "ext2",
		Label:  "herbarium",
		UUID:   idText,
		Length: blocks << 10,
	}
	block := func(at int, order binary.ByteOrder) page {
		p := newPage(1024, order)
		s.Pieces[int64(at)<<10] = p.b
		return p
	}
	bits := block(3, le)
	used := 0
	take := func(from, to int) { // blocks, counted from block 1
		for i := from - 1; i < to-1; i++ {
			bits.b[i/8] |= 1 << (i % 8)
		}
		used += to - from
	}
	take(1, root+1)
	block(4, le).text(0, "\xFF\x03").text(inodes/8, string(bytes.Repeat([]byte{0xFF}, 1024-inodes/8)))
	block(table, le).u16(128, 0o40755).u32(128+4, 1024).u16(128+26, 2).u32(128+28, 2).u32(128+40, root)
	block(root, le).u32(0, 2).u16(4, 12).u16(6, 0x0201).text(8, ".").u32(12, 2).u16(16, 1012).u16(18, 0x0202).text(20, "..")
	compat, inode := uint32(0), uint32(0)
	if journal {
		s.Name, s.Kind, compat, inode = "ext3", "ext3", 4, 8
		in := page{s.Pieces[table<<10], le}.u16(7*128, 0o100600).u32(7*128+4, logBlocks<<10).u16(7*128+26, 1).u32(7*128+28, 2*(logBlocks+5))
		list := func(p page, off, from, n int) {
			for i := range n {
				p.u32(off+4*i, uint32(from+i))
			}
		}
		list(in, 7*128+40, log, 12)
		list(in, 7*128+40+48, root+1, 2) // once and twice indirect
		list(block(root+1, le), 0, log+12, 256)
		list(block(root+2, le), 0, root+3, 3)
		for i, n := range []int{256, 256, logBlocks - 12 - 3*256} {
			list(block(root+3+i, le), 0, log+12+256*(i+1), n)
		}
		block(log, be).u32(0, 0xC03B3998).u32(4, 4).u32(12, 1024).u32(16, logBlocks).u32(20, 1).u32(24, 1).text(48, id).u32(64, 1)
		take(root+1, root+6)
		take(log, log+logBlocks)
	}
	free := uint32(blocks - 1 - used)
	take(blocks, 8193) // behind the end
	block(2, le).u32(0, 3).u32(4, 4).u32(8, table).u16(12, uint16(free)).u16(14, inodes-10).u16(16, 1)
	block(1, le).u32(0, inodes).u32(4, blocks).u32(12, free).u32(16, inodes-10).u32(20, 1).u32(32, 8192).u32(36, 8192).u32(40, inodes).u16(54, 0xFFFF).
		u16(56, 0xEF53).u16(58, 1).u16(60, 1).u32(76, 1).u32(84, 11).u16(88, 128).u32(92, compat).u32(96, 2).u32(100, 3).text(104, id).text(120, "herbarium").u32(224, inode)
	return s
}
