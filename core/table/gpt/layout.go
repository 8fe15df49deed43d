package gpt

import (
	"encoding/binary"

	"github.com/google/uuid"
)

// Fields of the header (UEFI 2.10, table 5.5), offsets in bytes.
const (
	// Both checksums are CRC-32 of the header and of the array apart, so that a header can
	// be good whose array is not: a copy counts only where both are.
	headerSignature   = 0  // 8 bytes
	headerRevision    = 8  // u32
	headerSize        = 12 // u32
	headerCRC         = 16 // u32, over headerSize bytes with this field zero
	headerReserved    = 20 // u32
	headerMyLBA       = 24 // u64
	headerAlternate   = 32 // u64
	headerFirstUsable = 40 // u64
	headerLastUsable  = 48 // u64
	headerDiskGUID    = 56 // 16 bytes
	headerArrayLBA    = 72 // u64
	headerEntries     = 80 // u32
	headerEntrySize   = 84 // u32
	headerArrayCRC    = 88 // u32
	headerEnd         = 92
)

// Fields of an entry (UEFI 2.10, table 5.6).
const (
	// Entries are not in order of place, and unused ones may lie between: the number of a
	// partition is that of its entry, which is what the kernel's name comes from.
	entryType       = 0  // 16 bytes
	entryUnique     = 16 // 16 bytes
	entryFirst      = 32 // u64
	entryLast       = 40 // u64, inclusive
	entryAttributes = 48 // u64
	entryName       = 56 // 36 UTF-16LE units
	entryEnd        = 128
)

// Fields of the protective MBR (UEFI 2.10, table 5.3).
const (
	// An older program sees a disk that is full of a type that it does not know.
	mbrSignature  = 440 // u32, of an MBR
	mbrRecords    = 446 // four records of 16 bytes
	mbrRecordSize = 16
	mbrType       = 4  // u8 within a record
	mbrFirst      = 8  // u32 within a record
	mbrCount      = 12 // u32 within a record
	mbrMagic      = 510
	typeGPT       = 0xEE
)

const (
	signature   = "EFI PART"
	revision1   = 0x00010000
	nameUnits   = 36
	headerLBA   = 1
	defaultSize = 128 // bytes an entry
)

// guid reads the mixed byte order of GUIDs on disk: the first three fields are
// little-endian (UEFI 2.10, appendix A).
func guid(b []byte) uuid.UUID {
	var u uuid.UUID
	binary.BigEndian.PutUint32(u[0:], binary.LittleEndian.Uint32(b[0:]))
	binary.BigEndian.PutUint16(u[4:], binary.LittleEndian.Uint16(b[4:]))
	binary.BigEndian.PutUint16(u[6:], binary.LittleEndian.Uint16(b[6:]))
	copy(u[8:], b[8:16])
	return u
}

func putGUID(b []byte, u uuid.UUID) {
	binary.LittleEndian.PutUint32(b[0:], binary.BigEndian.Uint32(u[0:]))
	binary.LittleEndian.PutUint16(b[4:], binary.BigEndian.Uint16(u[4:]))
	binary.LittleEndian.PutUint16(b[6:], binary.BigEndian.Uint16(u[6:]))
	copy(b[8:16], u[8:])
}
