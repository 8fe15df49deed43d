package gpt

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/quantity"
	"fundus/core/table"
)

// ErrNone says that there is no trace of a GPT.
var ErrNone = errors.New("no GPT")

// ErrCut is a table that was made for a larger disk.
var ErrCut = fmt.Errorf("%w: the disk has become smaller than its table", field.ErrRange)

// State is all that a disk holds of a GPT: both copies, each with the error
// that keeps it from being believed.
type State struct {
	MBR                   []byte // sector 0, its first 512 bytes
	Protective            Protective
	Primary, Backup       *Table // nil where the error is set
	PrimaryErr, BackupErr error
	Cut                   *Table // the primary copy, where the disk has become smaller than it
	Sectors               uint64 // of the device
	sector                int64  // bytes
}

// Protective says what sector 0 holds.
type Protective string

// The forms of sector 0.
const (
	NoRecord   Protective = "none"       // Linux sees no GPT
	Pure       Protective = "protective" // one record of type 0xEE
	HybridMBR  Protective = "hybrid"     // 0xEE beside other records
	OtherTable Protective = "mbr"        // an MBR without 0xEE
	EmptyMBR   Protective = "empty mbr"  // an MBR with a signature, and without any record
	// StrayRecord is 0xEE that does not begin with sector 1: Linux takes it neither for
	// a GPT nor for an MBR.
	StrayRecord Protective = "stray"
)

// Believed is the better copy where sector 0 announces a GPT, or nil. Whether Linux takes it is
// Unseen's.
func (s *State) Believed() *Table {
	if s.Protective != Pure && s.Protective != HybridMBR {
		return nil
	}
	return s.Good()
}

// Unseen says why Linux takes no partition from the table; "" where it does.
//
// It wants the protective record and a good primary copy, and looks at the backup only where
// that one names it, unless its command line says gpt (block/partitions/efi.c, find_valid_gpt,
// is_gpt_valid). Of the size of an entry it takes one alone.
func (s *State) Unseen() string {
	switch {
	case s.Dead():
		return "Linux uses the MBR in sector 0"
	case s.Protective == StrayRecord:
		return "the protective record in sector 0 does not begin with sector 1"
	case s.Protective == NoRecord:
		return "sector 0 holds no protective record"
	case s.Primary == nil && s.Cut != nil:
		return fmt.Sprintf("the table is for %d sectors, the disk has %d", s.Cut.Alternate+1, s.Sectors)
	case s.Primary == nil:
		return "the primary copy of its table is damaged"
	case s.Primary.EntrySize != entryEnd:
		return fmt.Sprintf("its entries have %d bytes, and Linux takes those of %d alone", s.Primary.EntrySize, entryEnd)
	}
	return ""
}

// Model is the table in the common form, as it is shown: the better copy, or the one that was
// made for a larger disk, within the disk; nil without one.
func (s *State) Model() *table.Table {
	t := cmp.Or(s.Good(), s.Cut)
	if t == nil {
		return nil
	}
	m := t.Model(quantity.Bytes(s.sector))
	m.Unseen, m.Forced = s.Unseen(), t != s.Cut && t.EntrySize == entryEnd
	if t == s.Cut {
		end := max(s.Sectors-min(t.arraySectors(s.sector)+1, s.Sectors), m.Usable.Start)
		m.Usable.Count = min(m.Usable.Count, end-m.Usable.Start)
	}
	return m
}

// Dead reports whether Linux goes by an MBR, whatever a GPT behind it says.
func (s *State) Dead() bool { return s.Protective == OtherTable || s.Protective == EmptyMBR }

// Good is the better copy regardless of sector 0.
func (s *State) Good() *Table {
	if s.Primary != nil {
		return s.Primary
	}
	return s.Backup
}

// Read looks for both copies. It fails with ErrNone where there is no trace,
// and with the device's error where it cannot be read.
func Read(dev block.Device) (*State, error) {
	sector := dev.Geometry().Logical
	if sector < 512 || dev.Size() < 6*sector {
		return nil, ErrNone
	}
	mbr, err := block.ReadSized(dev, 0, 512, 512)
	if err != nil {
		return nil, err
	}
	s := &State{MBR: mbr, Protective: protectiveForm(mbr), Sectors: uint64(dev.Size() / sector), sector: sector}
	s.Primary, s.PrimaryErr = Decode(dev, headerLBA)
	if errors.Is(s.PrimaryErr, ErrCut) {
		if s.Cut, err = decode(dev, headerLBA, true); err != nil {
			s.Cut = nil
		}
	}
	last := s.Sectors - 1
	s.Backup, s.BackupErr = Decode(dev, last)
	if s.Backup == nil && s.Primary != nil && s.Primary.Alternate < last {
		if t, err := Decode(dev, s.Primary.Alternate); err == nil {
			s.Backup, s.BackupErr = t, nil
		}
	}
	if errors.Is(s.PrimaryErr, field.ErrMagic) && s.Backup == nil && s.Protective != Pure {
		return nil, ErrNone
	}
	return s, nil
}

// protectiveForm reads sector 0 as Linux does (block/partitions/efi.c, msdos.c): a
// record of type 0xEE protects only where it begins with sector 1, and keeps the rest
// from being taken for an MBR wherever it begins. Without one it is an MBR where it has
// records, or the signature of one that has none left.
func protectiveForm(mbr []byte) Protective {
	if binary.LittleEndian.Uint16(mbr[mbrMagic:]) != 0xAA55 {
		return NoRecord
	}
	gpt, stray, other := 0, 0, 0
	for i := range 4 {
		switch r := mbr[mbrRecords+i*mbrRecordSize:][:mbrRecordSize]; {
		case r[mbrType] == 0:
		case r[mbrType] == typeGPT && binary.LittleEndian.Uint32(r[mbrFirst:]) == headerLBA:
			gpt++
		case r[mbrType] == typeGPT:
			stray++
		default:
			other++
		}
	}
	switch {
	case gpt > 0 && other > 0:
		return HybridMBR
	case gpt > 0:
		return Pure
	case stray > 0:
		return StrayRecord
	case other > 0:
		return OtherTable
	}
	if binary.LittleEndian.Uint32(mbr[mbrSignature:]) != 0 {
		return EmptyMBR
	}
	return NoRecord
}

// Decode reads the header at the LBA and the entry array that it points to.
func Decode(dev block.Device, lba uint64) (*Table, error) { return decode(dev, lba, false) }

// decode also reads, where it is told so, a copy that was made for a larger disk.
func decode(dev block.Device, lba uint64, larger bool) (*Table, error) {
	sector := dev.Geometry().Logical
	sectors := uint64(dev.Size() / sector)
	if lba >= sectors {
		return nil, &field.Error{Struct: "GPT header", Field: "LBA", Got: lba, Err: field.ErrRange}
	}
	raw, err := block.ReadSized(dev, int64(lba)*sector, sector, 1<<16)
	if err != nil {
		return nil, err
	}
	t, arrayCRC, err := decodeHeader(raw, int64(lba)*sector, lba, sectors, larger)
	if err != nil {
		return nil, err
	}
	n := int64(t.slots) * int64(t.EntrySize) // at most maxArray
	if n > maxArray || !within(t.ArrayLBA, uint64(n+sector-1)/uint64(sector), sectors) {
		return nil, &field.Error{
			Struct: "GPT header",
			Field:  "entry array",
			Off:    int64(lba)*sector + headerArrayLBA,
			Got:    t.ArrayLBA,
			Want:   "the array must be on the disk",
			Err:    field.ErrRange,
		}
	}
	array, err := block.ReadSized(dev, int64(t.ArrayLBA)*sector, n, maxArray)
	if err != nil {
		return nil, err
	}
	if got := crc32.ChecksumIEEE(array); got != arrayCRC {
		return nil, checksumError("GPT entry array", int64(t.ArrayLBA)*sector, arrayCRC, got)
	}
	t.Entries = make([]Entry, 0, t.slots)
	for at := 0; at < len(array); at += int(t.EntrySize) {
		e := Entry{} // most are empty
		if raw := array[at : at+int(t.EntrySize)]; !block.IsZero(raw) {
			e = decodeEntry(raw)
		} else if len(raw) > entryEnd {
			e.extra = append([]byte(nil), raw[entryEnd:]...)
		}
		t.Entries = append(t.Entries, e)
	}
	return t, nil
}

func within(start, count, limit uint64) bool { return count <= limit && start <= limit-count }

func decodeHeader(raw []byte, base int64, lba, sectors uint64, larger bool) (*Table, uint32, error) {
	r := field.New("GPT header", base, raw, binary.LittleEndian)
	if got := string(r.Raw("signature", headerSignature, 8)); got != signature {
		r.Fail("signature", headerSignature, nil, "", field.ErrMagic)
	}
	size := r.U32("header size", headerSize)
	if size < headerEnd || int(size) > len(raw) || size > maxHeader {
		r.Fail("header size", headerSize, size, "at least 92 and within the sector", field.ErrRange)
	}
	if err := r.Err(); err != nil {
		return nil, 0, err
	}
	want := r.U32("CRC", headerCRC)
	if got := headerChecksum(raw, size); got != want {
		return nil, 0, checksumError("GPT header", base, want, got)
	}
	t := &Table{
		Revision: r.U32("revision", headerRevision), Reserved: r.U32("reserved", headerReserved),
		MyLBA: r.U64("own LBA", headerMyLBA), Alternate: r.U64("alternate LBA", headerAlternate),
		FirstUsable: r.U64("first usable LBA", headerFirstUsable), LastUsable: r.U64("last usable LBA", headerLastUsable),
		DiskGUID: guid(r.Raw("disk GUID", headerDiskGUID, 16)), ArrayLBA: r.U64("array LBA", headerArrayLBA),
		EntrySize: r.U32("entry size", headerEntrySize), slots: r.U32("entries", headerEntries),
		headerSize: size, tail: append([]byte(nil), raw[headerEnd:]...),
	}
	if t.MyLBA != lba {
		r.Fail("own LBA", headerMyLBA, t.MyLBA, "", field.ErrRange)
	}
	if t.FirstUsable > t.LastUsable {
		r.Fail("last usable LBA", headerLastUsable, t.LastUsable, "it is before the first one", field.ErrRange)
	}
	if t.LastUsable >= sectors && !larger {
		r.Fail("last usable LBA", headerLastUsable, t.LastUsable, "the disk ends before it", ErrCut)
	}
	if s := t.EntrySize; s < entryEnd || s&(s-1) != 0 || s > 1<<16 {
		r.Fail("entry size", headerEntrySize, s, "a power of two from 128", field.ErrRange)
	}
	if t.slots == 0 || t.slots > maxArray/entryEnd {
		r.Fail("entries", headerEntries, t.slots, "", field.ErrRange)
	}
	return t, r.U32("array CRC", headerArrayCRC), r.Err()
}

func headerChecksum(raw []byte, size uint32) uint32 {
	b := append([]byte(nil), raw[:size]...)
	clear(b[headerCRC : headerCRC+4])
	return crc32.ChecksumIEEE(b)
}

func checksumError(what string, base int64, want, got uint32) error {
	return &ChecksumError{what, base, want, got}
}

func decodeEntry(b []byte) Entry {
	e := Entry{
		Type: guid(b[entryType:]), Unique: guid(b[entryUnique:]),
		First: binary.LittleEndian.Uint64(b[entryFirst:]), Last: binary.LittleEndian.Uint64(b[entryLast:]),
		Attributes: binary.LittleEndian.Uint64(b[entryAttributes:]),
	}
	for i := range e.name {
		e.name[i] = binary.LittleEndian.Uint16(b[entryName+2*i:])
	}
	if len(b) > entryEnd {
		e.extra = append([]byte(nil), b[entryEnd:]...)
	}
	return e
}
