package gpt

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"math"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/extent"
)

// ErrInvalid is a table that must not be written.
var ErrInvalid = errors.New("not a valid table")

// encode gives the header's sector and the entry array, with checksums, for a
// header that lies at my and whose array lies at array.
//
// Bytes of the header and of entries that have no meaning here are kept as they were:
// another system may have put them there, and they are under the checksums.
func (t *Table) encode(sector int64, my, alternate, array uint64) (header, entries []byte) {
	entries = make([]byte, int64(t.arraySectors(sector))*sector)
	for i, e := range t.Entries {
		encodeEntry(entries[i*int(t.EntrySize):], e)
	}
	header = make([]byte, sector)
	copy(header[headerEnd:], t.tail)
	copy(header, signature)
	le := binary.LittleEndian
	le.PutUint32(header[headerRevision:], t.Revision)
	le.PutUint32(header[headerSize:], t.headerSize)
	le.PutUint32(header[headerReserved:], t.Reserved)
	le.PutUint64(header[headerMyLBA:], my)
	le.PutUint64(header[headerAlternate:], alternate)
	le.PutUint64(header[headerFirstUsable:], t.FirstUsable)
	le.PutUint64(header[headerLastUsable:], t.LastUsable)
	putGUID(header[headerDiskGUID:], t.DiskGUID)
	le.PutUint64(header[headerArrayLBA:], array)
	le.PutUint32(header[headerEntries:], uint32(len(t.Entries)))
	le.PutUint32(header[headerEntrySize:], t.EntrySize)
	le.PutUint32(header[headerArrayCRC:], crc32.ChecksumIEEE(entries[:len(t.Entries)*int(t.EntrySize)]))
	le.PutUint32(header[headerCRC:], headerChecksum(header, t.headerSize))
	return header, entries
}

func encodeEntry(b []byte, e Entry) {
	putGUID(b[entryType:], e.Type)
	putGUID(b[entryUnique:], e.Unique)
	le := binary.LittleEndian
	le.PutUint64(b[entryFirst:], e.First)
	le.PutUint64(b[entryLast:], e.Last)
	le.PutUint64(b[entryAttributes:], e.Attributes)
	for i, u := range e.name {
		le.PutUint16(b[entryName+2*i:], u)
	}
	copy(b[entryEnd:], e.extra)
}

// protect gives sector 0 with a protective record over the whole disk. Boot
// code and disk signature, the first 446 bytes, stay; so do records beside one that
// only begins in the wrong place, which is put right where it stands, if keep says so.
//
// Its end in cylinders, heads and sectors is FF FF FF where the disk is larger than they
// can say, and a count of 2^32 - 1 sectors where it is larger than that: old programs then
// see a disk that is full, which is the purpose of the record.
func protect(mbr []byte, sectors uint64, keep bool) []byte {
	out := append([]byte(nil), mbr...)
	record := out[mbrRecords:]
	if keep && protectiveForm(out) == StrayRecord {
		for record[mbrType] != typeGPT {
			record = record[mbrRecordSize:]
		}
	} else {
		clear(out[mbrRecords:mbrMagic])
	}
	copy(record[1:], append(firstCHS(), typeGPT))
	copy(record[5:], lastCHS(sectors-1))
	binary.LittleEndian.PutUint32(record[mbrFirst:], 1)
	binary.LittleEndian.PutUint32(record[mbrCount:], uint32(min(sectors-1, math.MaxUint32)))
	binary.LittleEndian.PutUint16(out[mbrMagic:], 0xAA55)
	return out
}

// lastCHS is the place of the last sector in cylinders, heads and sectors, as old firmware
// counts them with 255 heads and 63 sectors; FF FF FF where it lies beyond what three bytes
// can say, at 8 GB.
func lastCHS(last uint64) []byte {
	const heads, perTrack, cylinders = 255, 63, 1024
	cylinder := last / (heads * perTrack)
	if cylinder >= cylinders {
		return []byte{0xFF, 0xFF, 0xFF}
	}
	return []byte{byte(last / perTrack % heads), byte(last%perTrack+1) | byte(cylinder>>2&0xC0), byte(cylinder)}
}

// Order says in which order Write put the table.
type Order string

// The orders.
const (
	// Fresh: nothing was believed before, so sector 0 is the switch.
	Fresh Order = "fresh"
	// Switched: an interim array and a one-sector switch of the primary header.
	Switched Order = "switched"
	// FromBackup: the primary was damaged, so its header is the switch.
	FromBackup Order = "from-backup"
	// Plain: no room for the interim array; between two syncs a cut leaves
	// only the backup copy valid.
	Plain Order = "plain"
)

// writer puts the pieces of one table in their places, a phase at a time.
type writer struct {
	dev    block.Device
	sector int64
	t      *Table
	last   uint64
	anew   bool // it is another table than the one before
	err    error
}

// Write brings the table onto the disk in place of the state that Read gave
// (nil for none) and syncs between the phases, so that a cut at any sector
// leaves Linux the old table or the new one. It says which order it used.
func Write(dev block.Device, old *State, t *Table) (Order, error) {
	sector := dev.Geometry().Logical
	w := &writer{dev: dev, sector: sector, t: t, last: uint64(dev.Size()/sector) - 1}
	var believed, was *Table
	if old != nil {
		believed = old.Believed()
		if !old.Dead() {
			was = old.Good()
		}
	}
	if err := w.valid(was); err != nil {
		return "", err
	}
	w.anew = was == nil || was.DiskGUID != t.DiskGUID
	switch {
	case believed == nil:
		w.backup()
		w.primary(t.ArrayLBA)
		w.sectorZero()
		return Fresh, w.err
	// Linux sees nothing before, so that the primary header is the switch; the backup copy,
	// which others may go by, is good until that one is.
	case old.Primary == nil:
		w.primary(t.ArrayLBA)
		w.backup()
		w.sectorZero()
		return FromBackup, w.err
	}
	if w.there() {
		return Switched, w.err
	}
	w.backup()
	interim, ok := w.interim(believed)
	if !ok {
		w.primary(t.ArrayLBA)
		w.sectorZero()
		w.leave(old)
		return Plain, w.err
	}
	// What lies at the interim place is put back: it is free space, but somebody may still
	// want to find something there.
	former := w.read(interim)
	w.primary(interim)
	w.primary(t.ArrayLBA)
	w.put(interim, former)
	w.sync()
	w.sectorZero()
	w.leave(old)
	return Switched, w.err
}

// leave zeroes the backup copy of a disk that was smaller, now that there is one at the new
// end: a partition that is made there would begin its life with half a table in it, which a
// search would find, and which nobody would recognise as nothing. It must lie in no
// partition of the table before.
func (w *writer) leave(old *State) {
	b := old.Backup
	if w.err != nil || b == nil || b.MyLBA == w.last || w.anew {
		return
	}
	n := b.arraySectors(w.sector)
	for _, span := range []extent.Span{{Start: b.MyLBA, Count: 1}, {Start: b.ArrayLBA, Count: n}} {
		for _, e := range b.Entries {
			if e.Used() && e.Span().Overlaps(span) {
				return
			}
		}
	}
	w.put(b.MyLBA, make([]byte, w.sector))
	w.put(b.ArrayLBA, make([]byte, int64(n)*w.sector))
	w.sync()
}

// valid refuses a table that must not be written. Entries that are as they were before
// are not judged: an edit of one partition must not wait until somebody knows what the
// nonsense in another entry was for. None may lie where the table itself goes, though:
// writing it would destroy what is in the partition.
func (w *writer) valid(was *Table) error {
	t := w.t
	n := t.arraySectors(w.sector)
	if n >= w.last || t.LastUsable+n >= w.last || t.ArrayLBA <= headerLBA || t.ArrayLBA+n > t.FirstUsable || t.FirstUsable > t.LastUsable {
		return fmt.Errorf("%w: usable sectors %d-%d, arrays of %d sectors, last sector %d", ErrInvalid, t.FirstUsable,
			t.LastUsable, n, w.last)
	}
	arrays := []extent.Span{{Start: t.ArrayLBA, Count: n}, {Start: w.last - n, Count: n + 1}}
	for i, e := range t.Entries {
		if !e.Used() {
			continue
		}
		for _, a := range arrays {
			if e.Span().Overlaps(a) {
				return fmt.Errorf("%w: partition %d has sectors %v, and a copy of the table is in sectors %v: copy away what is on it, and remove it",
					ErrInvalid, i+1, e.Span(), a)
			}
		}
		if was != nil && i < len(was.Entries) && e.same(was.Entries[i]) {
			continue
		}
		if err := t.fits(i, e); err != nil {
			return fmt.Errorf("%w: %w", ErrInvalid, err)
		}
	}
	return nil
}

// fits checks one entry against where partitions may lie, and against all others.
func (t *Table) fits(i int, e Entry) error {
	usable := t.Usable()
	if e.Span().Count == 0 {
		return fmt.Errorf("partition %d: it ends with sector %d, before it begins with sector %d: %w", i+1, e.Last,
			e.First, extent.ErrEmpty)
	}
	if !usable.Contains(e.Span()) {
		return fmt.Errorf("partition %d: sectors %v: %w: %v", i+1, e.Span(), field.ErrRange, usable)
	}
	for k, other := range t.Entries {
		if k != i && other.Used() && other.Span().Overlaps(e.Span()) {
			return fmt.Errorf("partition %d: sectors %v: %w: partition %d has %v", i+1, e.Span(), extent.ErrOverlap, k+1, other.Span())
		}
	}
	return nil
}

// interim finds room for a copy of the array between the arrays of both tables
// and every partition of both.
//
// Sectors of the old table and of the new one are both taken until the switch, and so is
// what partitions of either have.
func (w *writer) interim(old *Table) (uint64, bool) {
	n := w.t.arraySectors(w.sector)
	from := max(w.t.ArrayLBA+n, old.ArrayLBA+old.arraySectors(w.sector))
	until := min(w.last-n, old.LastUsable+1)
	for _, t := range []*Table{old, w.t} {
		for _, e := range t.Entries {
			if e.Used() && e.Span().Count > 0 {
				until = min(until, e.First)
			}
		}
	}
	return from, from <= until && until-from >= n
}

// there reports whether both copies are on the disk already, byte for byte, with what
// protects them: then going over an interim place would write for nothing.
func (w *writer) there() bool {
	n := w.t.arraySectors(w.sector)
	primary, entries := w.t.encode(w.sector, headerLBA, w.last, w.t.ArrayLBA)
	backup, _ := w.t.encode(w.sector, w.last, headerLBA, w.last-n)
	for _, place := range []struct {
		lba  uint64
		want []byte
	}{{headerLBA, primary}, {w.t.ArrayLBA, entries}, {w.last - n, entries}, {w.last, backup}} {
		now, err := block.ReadSized(w.dev, int64(place.lba)*w.sector, int64(len(place.want)), maxArray+w.sector)
		if err != nil || !bytes.Equal(now, place.want) {
			return false
		}
	}
	now := w.read(0)
	if w.err != nil {
		return false
	}
	form := protectiveForm(now)
	return form == HybridMBR && !w.anew || form == Pure && inexact(now, w.last) == ""
}

// backup writes the backup array, syncs, then its header and syncs.
func (w *writer) backup() {
	at := w.last - w.t.arraySectors(w.sector)
	header, entries := w.t.encode(w.sector, w.last, headerLBA, at)
	w.put(at, entries)
	w.sync()
	w.put(w.last, header)
	w.sync()
}

// primary writes the array at the LBA, syncs, then the header that points
// there and syncs.
func (w *writer) primary(array uint64) {
	header, entries := w.t.encode(w.sector, headerLBA, w.last, array)
	w.put(array, entries)
	w.sync()
	w.put(headerLBA, header)
	w.sync()
}

// sectorZero puts the protective record where it is not there already.
func (w *writer) sectorZero() {
	now := w.read(0)
	if w.err != nil {
		return
	}
	switch form := protectiveForm(now); {
	case form == HybridMBR && !w.anew: // somebody's records, and Linux believes the GPT all the same
		return
	case form == Pure && inexact(now, w.last) == "":
		return
	}
	w.put(0, protect(now[:w.sector], w.last+1, !w.anew))
	w.sync()
}

// inexact says what the protective record says wrongly of where it begins and ends, "" where it
// is right: it runs to the end of the disk, or as far as it can say. In cylinders, heads and
// sectors some write FE FF FF for what lies beyond.
func inexact(mbr []byte, last uint64) string {
	record := mbr[mbrRecords:]
	for record[mbrType] != typeGPT {
		record = record[mbrRecordSize:]
	}
	count, end := binary.LittleEndian.Uint32(record[mbrCount:]), record[5:8]
	switch {
	case count != math.MaxUint32 && uint64(count) != last:
		return fmt.Sprintf("it has %d sectors, and the disk has %d after it", count, last)
	case !bytes.Equal(record[1:4], firstCHS()):
		return fmt.Sprintf("in cylinders, heads and sectors it begins at % x, and not at % x", record[1:4], firstCHS())
	case !bytes.Equal(end, lastCHS(last)) && !bytes.Equal(end, []byte{0xFF, 0xFF, 0xFF}) && !bytes.Equal(end, []byte{0xFE, 0xFF, 0xFF}):
		return fmt.Sprintf("in cylinders, heads and sectors it ends at % x, and not at % x", end, lastCHS(last))
	}
	return ""
}

// firstCHS is sector 1 in cylinders, heads and sectors.
func firstCHS() []byte { return []byte{0x00, 0x02, 0x00} }

// read gives as many sectors as an array takes.
func (w *writer) read(lba uint64) []byte {
	if w.err != nil {
		return nil
	}
	n := int64(w.t.arraySectors(w.sector)) * w.sector
	b, err := block.ReadSized(w.dev, int64(lba)*w.sector, n, maxArray+w.sector)
	w.err = err
	return b
}

// put writes those sectors that differ from what is there: most of an array
// stays as it is. What cannot be read is written whole.
func (w *writer) put(lba uint64, b []byte) {
	if w.err != nil {
		return
	}
	now, err := block.ReadSized(w.dev, int64(lba)*w.sector, int64(len(b)), maxArray+w.sector)
	if err != nil {
		w.err = block.WriteBytes(w.dev, b, int64(lba)*w.sector)
		return
	}
	n := int(w.sector)
	same := func(at int) bool { return bytes.Equal(now[at:at+n], b[at:at+n]) }
	for from := 0; from < len(b) && w.err == nil; from += n {
		to := from
		for to < len(b) && !same(to) {
			to += n
		}
		if to > from {
			w.err = block.WriteBytes(w.dev, b[from:to], int64(lba)*w.sector+int64(from))
			from = to
		}
	}
}

func (w *writer) sync() {
	if w.err == nil {
		w.err = w.dev.Sync()
	}
}

// Erase zeroes both headers of a GPT that is no longer believed, so that nobody
// takes its backup for a table that was lost. Sector 0 is another table's.
func Erase(dev block.Device) error {
	state, err := Read(dev)
	if errors.Is(err, ErrNone) {
		return nil
	}
	if err != nil {
		return err
	}
	sector := dev.Geometry().Logical
	places := []uint64{headerLBA, state.Sectors - 1}
	if state.Primary != nil && state.Primary.Alternate < state.Sectors {
		places = append(places, state.Primary.Alternate)
	}
	for _, lba := range places {
		b, err := block.ReadSized(dev, int64(lba)*sector, sector, 1<<16)
		if err == nil && string(b[:len(signature)]) == signature {
			err = dev.WriteZeroes(int64(lba)*sector, sector)
		}
		if err != nil {
			return err
		}
	}
	return dev.Sync()
}
