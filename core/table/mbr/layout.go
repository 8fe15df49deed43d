package mbr

import "encoding/binary"

// Layout of sector 0 and of each sector of the chain, offsets in bytes.
const (
	bootCode      = 440 // bytes, never touched
	diskSignature = 440 // u32, in sector 0 alone
	records       = 446 // four of 16 bytes
	recordSize    = 16
	recordBoot    = 0 // u8: 0 or 0x80
	recordHead    = 1 // three bytes: first as head, sector, cylinder
	recordType    = 4 // u8
	recordTail    = 5 // three bytes: last
	recordFirst   = 8 // u32
	recordCount   = 12
	magic         = 510
	size          = 512

	typeGPT = 0xEE

	// Types of extended partitions: within the reach of cylinders, and beyond.
	typeExtended      = 0x05
	typeExtendedLBA   = 0x0F
	typeExtendedLinux = 0x85

	dataRecord, linkRecord = 0, 1 // in a sector of the chain

	firstLogical = 5
	// slots is how many records sector 0 has.
	slots = 4
	// mostLinks bounds the chain: Linux takes numbers below 256.
	mostLinks = 256
	// reach is how many sectors a record can count.
	reach = 1 << 32
)

// record is one of the four in a sector; writing to it changes the sector.
type record []byte

func recordOf(sector []byte, i int) record {
	return record(sector[records+i*recordSize:][:recordSize])
}

func (r record) kind() byte    { return r[recordType] }
func (r record) boot() byte    { return r[recordBoot] }
func (r record) first() uint64 { return uint64(binary.LittleEndian.Uint32(r[recordFirst:])) }
func (r record) count() uint64 { return uint64(binary.LittleEndian.Uint32(r[recordCount:])) }
func (r record) used() bool    { return r.kind() != 0 && r.count() != 0 }

func (r record) extended() bool { return isExtended(r.kind()) }

func isExtended(kind byte) bool {
	return kind == typeExtended || kind == typeExtendedLBA || kind == typeExtendedLinux
}

// put fills the record in. The span counts from base; cylinders, heads and sectors
// are those of the whole disk.
func (r record) put(kind, boot byte, start, count, base uint64) {
	r[recordBoot], r[recordType] = boot, kind
	copy(r[recordHead:], cylinders(start))
	copy(r[recordTail:], cylinders(start+count-1))
	binary.LittleEndian.PutUint32(r[recordFirst:], uint32(start-base))
	binary.LittleEndian.PutUint32(r[recordCount:], uint32(count))
}

// The geometry that every firmware assumes since disks have more than 8 GiB.
const (
	heads     = 255
	perTrack  = 63
	cylinderN = 1024
)

// cylinders is a sector's number as head, sector and cylinder; what lies beyond
// their reach gets the last value of each.
func cylinders(lba uint64) []byte {
	c, h, s := lba/(heads*perTrack), lba/perTrack%heads, lba%perTrack+1
	if c >= cylinderN {
		c, h, s = cylinderN-1, heads-1, perTrack
	}
	return []byte{byte(h), byte(s) | byte(c>>2)&0xC0, byte(c)}
}
