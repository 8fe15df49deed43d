package fat

import (
	"context"
	"encoding/binary"
	"time"

	"fundus/core/block"
	"fundus/core/quantity"
)

// Make writes a new FAT onto the device, the boot sector last and behind a sync of its own.
// Other signatures are the caller's to remove.
func Make(ctx context.Context, dev block.Device, o Options) (*Layout, error) {
	l, err := Plan(quantity.Bytes(dev.Size()), dev.Geometry(), o)
	if err != nil {
		return nil, err
	}
	return l, l.write(ctx, dev)
}

// write carries the layout out: what nothing refers to first, the boot sector, which makes a
// FAT of it all, last.
func (l *Layout) write(ctx context.Context, dev block.Device) error {
	w := writer{block.NewWriter(ctx, dev), int64(l.Sector)}
	data := l.DataStart()
	w.zero(1, int64(data)-1)
	if l.Bits == 32 {
		// The root directory of FAT32 is a cluster like any other: entries of whoever used the
		// device before must not be read as files.
		w.zero(int64(data), int64(l.Per))
	}
	size := quantity.Bytes(data) * quantity.Bytes(l.Sector)
	l.options.Sink.Send("tables", size, size)
	for i := range l.options.Tables {
		w.put(int64(l.Reserved)+int64(i)*int64(l.Table), l.firstEntries())
	}
	root := int64(data) - int64(l.Root)
	if l.options.Label != "" {
		w.put(root, labelEntry(l.options.Label, l.options.Time))
	}
	boot := l.bootSector()
	if l.Bits == 32 {
		w.put(infoAt, l.info())
		w.put(infoAt+1, lastMark())
		w.put(backupAt, boot)
		w.put(backupAt+infoAt, l.info())
		w.put(backupAt+infoAt+1, lastMark())
	}
	w.Sync()
	w.put(0, boot)
	w.Sync()
	return w.Err()
}

// writer writes by sectors.
type writer struct {
	*block.Writer
	sector int64
}

// zero writes whole sectors of zeros: tables and the root directory must not show what was there.
func (w writer) zero(at, n int64) { w.Zero(at*w.sector, n*w.sector) }

// put writes bytes to the beginning of a sector, and zeros to its rest.
func (w writer) put(at int64, p []byte) {
	whole := make([]byte, w.sector)
	copy(whole, p)
	w.Put(whole, at*w.sector)
}

// A disk's kind of medium, which the first entry of a table repeats.
const fixedDisk = 0xF8

// firstEntries begin a table: the medium, the marks of a clean volume, and for FAT32 the end
// of the root directory's chain.
func (l *Layout) firstEntries() []byte {
	switch l.Bits {
	// The second entry ends no chain: of FAT16 and FAT32 its upper bits say that the volume was
	// left in order, and that no error was met while it was read.
	case 12:
		return []byte{fixedDisk, 0xFF, 0xFF}
	case 16:
		return []byte{fixedDisk, 0xFF, 0xFF, 0xFF}
	}
	return []byte{fixedDisk, 0xFF, 0xFF, 0x0F, 0xFF, 0xFF, 0xFF, 0x0F, 0xFF, 0xFF, 0xFF, 0x0F}
}

// bootSector is the first sector.
func (l *Layout) bootSector() []byte {
	b := make([]byte, 512)
	le, o := binary.LittleEndian, l.options
	const trackSectors, trackHeads, firstDisk, madeBy = 63, 255, 0x80, 3
	copy(b[madeBy:], "FUNDUS  ")
	le.PutUint16(b[bytesPerSector:], uint16(l.Sector))
	b[sectorsPerCluster] = byte(l.Per)
	le.PutUint16(b[reservedSectors:], uint16(l.Reserved))
	b[tables], b[media] = byte(o.Tables), fixedDisk
	le.PutUint16(b[24:], trackSectors)
	le.PutUint16(b[26:], trackHeads)
	// A boot loader that is loaded from this sector adds it to every sector of the volume: with a
	// wrong one it reads elsewhere on the disk.
	le.PutUint32(b[28:], o.Hidden)
	// Exactly one of the two fields may be filled: the other is 0.
	if l.Total < 1<<16 && l.Bits != 32 {
		le.PutUint16(b[totalSmall:], uint16(l.Total))
	} else {
		le.PutUint32(b[totalLarge:], l.Total)
	}
	at, serial, label, kind, code := signature16, serial16, label16, "FAT12   ", 62
	if l.Bits == 16 {
		kind = "FAT16   "
	}
	if l.Bits == 32 {
		at, serial, label, kind, code = signature32, serial32, label32, "FAT32   ", 90
		le.PutUint32(b[tableLarge:], l.Table)
		le.PutUint32(b[rootCluster:], 2)
		le.PutUint16(b[infoSector:], infoAt)
		le.PutUint16(b[50:], backupAt)
	} else {
		le.PutUint16(b[tableSmall:], uint16(l.Table))
		le.PutUint16(b[rootEntries:], uint16(l.Root*l.Sector/entrySize))
	}
	// 0x29 says that identifier, label and the name of the kind follow. The name is for people
	// alone: the number of clusters decides, see [Plan].
	b[at-2], b[at] = firstDisk, 0x29
	le.PutUint32(b[serial:], o.Serial)
	copy(b[label:], padded(o.Label, "NO NAME"))
	copy(b[label+labelSize:], kind)
	copy(b, []byte{0xEB, byte(code - 2), 0x90}) // a jump over the figures
	copy(b[code:], bootCode(code))
	le.PutUint16(b[magicAt:], 0xAA55)
	return b
}

// labelSize is how many bytes a label has, everywhere.
const labelSize = 11

// padded fills a label up with blanks.
func padded(label, none string) string {
	if label == "" {
		label = none
	}
	return (label + "           ")[:labelSize]
}

// bootCode prints why nothing starts from here, waits for a key, and has the firmware try
// the next device. It begins at so many bytes of the sector, which is loaded to 0x7C00.
func bootCode(at int) []byte {
	// Code of 16 bits, for firmware that starts the first sector of what it is given; newer
	// firmware never runs it.
	code := []byte{
		0x31, 0xC0, // xor ax, ax
		0x8E, 0xD8, // mov ds, ax
		0xBE, 0, 0, // mov si, the text
		0xAC,       // next: lodsb
		0x84, 0xC0, // test al, al
		0x74, 0x06, // jz wait
		0xB4, 0x0E, // mov ah, 14: print a letter
		0xCD, 0x10, // int 0x10
		0xEB, 0xF5, // jmp next
		0x30, 0xE4, // wait: xor ah, ah: a key
		0xCD, 0x16, // int 0x16
		0xCD, 0x19, // int 0x19: start again
		0xF4,       // end: hlt
		0xEB, 0xFD, // jmp end
	}
	binary.LittleEndian.PutUint16(code[5:], uint16(0x7C00+at+len(code)))
	return append(code, "Nothing starts from this volume. Press a key to try another.\r\n\x00"...)
}

// info is the sector in which FAT32 counts free clusters: all but that of the root.
func (l *Layout) info() []byte {
	b := make([]byte, 512)
	le := binary.LittleEndian
	le.PutUint32(b, 0x41615252)
	le.PutUint32(b[484:], 0x61417272)
	// What is free, and where the search for a free one begins: both are hints, and a reader that
	// does not trust them counts for itself.
	le.PutUint32(b[488:], l.Clusters-1)
	le.PutUint32(b[492:], 3)
	copy(b[508:], []byte{0, 0, 0x55, 0xAA})
	return b
}

// lastMark is the third boot sector, which has its mark alone.
func lastMark() []byte {
	b := make([]byte, 512)
	copy(b[magicAt:], []byte{0x55, 0xAA})
	return b
}

// labelEntry is the entry of the root directory that holds the label.
func labelEntry(label string, at time.Time) []byte {
	b := make([]byte, entrySize)
	copy(b, padded(label, ""))
	// A first letter 0xE5, which some code pages have, would read as a deleted entry; 0x05 stands
	// in its place.
	if b[0] == entryDeleted {
		b[0] = 0x05
	}
	b[entryAttribute] = isVolume
	clock, day := stamp(at)
	binary.LittleEndian.PutUint16(b[22:], clock)
	binary.LittleEndian.PutUint16(b[24:], day)
	return b
}

// stamp is a time as FAT writes it, in UTC: two seconds are the finest, and years begin with
// 1980.
func stamp(t time.Time) (clock, day uint16) {
	t = t.UTC()
	switch {
	case t.Year() < 1980:
		t = time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC)
	case t.Year() > 2107:
		t = time.Date(2107, 12, 31, 23, 59, 58, 0, time.UTC)
	}
	return uint16(t.Hour()<<11 | t.Minute()<<5 | t.Second()/2), uint16((t.Year()-1980)<<9 | int(t.Month())<<5 | t.Day())
}
