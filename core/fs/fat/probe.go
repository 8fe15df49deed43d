// Package fat recognises and makes FAT12, FAT16 and FAT32, and writes their labels.
//
//	FAT12, FAT16  │ boot sector │ table │ table │ root directory │ clusters
//	FAT32         │ boot sector │ figures │ … │ copy of both │ table │ table │ clusters
//
// Which of the three it is follows from the number of clusters alone: up to 4084 are FAT12, up to
// 65524 are FAT16. Nothing in it has a checksum; so what is recognised are figures that fit each
// other, as Linux checks them.
//
// Not done: it is neither made larger nor smaller, keeps no owners and modes, and has labels of
// eleven capitals. Refused when it is made: more clusters than the asked kind can count, and fewer.
//
// Source: Microsoft Extensible Firmware Initiative FAT32 File System
// Specification 1.03 (boot sector and BPB; the kind follows from the number of
// clusters alone).
package fat

import (
	"encoding/binary"
	"fmt"
	"strings"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/quantity"
)

// Offsets in the boot sector, in bytes.
//
// There is no magic that is FAT's alone: 55 AA ends every boot sector, and the words FAT12
// or FAT32 further in are decoration that the specification tells readers to ignore. So the
// figures must fit each other, as Linux checks them (fs/fat/inode.c), and a jump must lead
// over them. Which of the three it is follows from the number of clusters alone.
const (
	bytesPerSector    = 11 // u16
	sectorsPerCluster = 13 // u8
	reservedSectors   = 14 // u16
	tables            = 16 // u8
	rootEntries       = 17 // u16
	totalSmall        = 19 // u16
	media             = 21 // u8
	tableSmall        = 22 // u16
	totalLarge        = 32 // u32
	tableLarge        = 36 // u32, FAT32
	rootCluster       = 44 // u32, FAT32
	infoSector        = 48 // u16, FAT32
	signature16       = 38 // u8: 0x28 or 0x29
	serial16          = 39 // u32
	label16           = 43 // 11 bytes
	signature32       = 66
	serial32          = 67
	label32           = 71
	magicAt           = 510
)

// figures are those of a boot sector that hold together.
type figures struct {
	boot          []byte
	total         uint32 // sectors
	sector, table uint32 // bytes; sectors
	wide          bool   // FAT32, as Linux tells it
}

// signed reports whether there is a serial number.
func (f *figures) signed() bool {
	at := signature16
	if f.wide {
		at = signature32
	}
	return f.boot[at] == 0x28 || f.boot[at] == 0x29
}

// open reads the boot sector; no figures where it is none of FAT.
func open(dev block.Device) (volume, *figures, error) {
	if dev.Size() < 512 {
		return volume{}, nil, nil
	}
	b, err := block.ReadSized(dev, 0, 512, 512)
	if err != nil {
		return volume{}, nil, err
	}
	le := binary.LittleEndian
	sector, cluster := uint32(le.Uint16(b[bytesPerSector:])), uint32(b[sectorsPerCluster])
	reserved, count := uint32(le.Uint16(b[reservedSectors:])), uint32(b[tables])
	// An MBR ends with 55 AA too. Its code lies where the figures would be, and no code has
	// a power of two in three places and a medium from F0 on.
	if le.Uint16(b[magicAt:]) != 0xAA55 || b[0] != 0xEB && b[0] != 0xE9 || sector < 512 || sector > 4096 || sector&(sector-1) != 0 ||
		cluster == 0 || cluster&(cluster-1) != 0 || reserved == 0 || count == 0 || count > 2 || b[media] != 0xF0 && b[media] < 0xF8 {
		return volume{}, nil, nil
	}
	// Both stand twice: 16 bits from the beginning, 32 bits for what outgrew them; the
	// small one is zero then.
	f := &figures{boot: b, total: uint32(le.Uint16(b[totalSmall:])), sector: sector, table: uint32(le.Uint16(b[tableSmall:]))}
	if f.total == 0 {
		f.total = le.Uint32(b[totalLarge:])
	}
	if f.wide = f.table == 0; f.wide {
		f.table = le.Uint32(b[tableLarge:])
	}
	root := (uint64(le.Uint16(b[rootEntries:]))*32 + uint64(sector) - 1) / uint64(sector)
	overhead := uint64(reserved) + uint64(count)*uint64(f.table) + root
	if f.table == 0 || overhead >= uint64(f.total) {
		return volume{}, nil, nil
	}
	v := volume{dev: dev, sector: int64(sector), cluster: int64(sector * cluster),
		clusters: (uint64(f.total) - overhead) / uint64(cluster), table: int64(reserved) * int64(sector),
		root:     int64(uint64(reserved)+uint64(count)*uint64(f.table)) * int64(sector),
		rootSize: int64(le.Uint16(b[rootEntries:])) * entrySize, data: int64(overhead) * int64(sector)}
	if f.wide {
		v.first = le.Uint32(b[rootCluster:])
	}
	return v, f, nil
}

// Probe recognises FAT by a consistent boot sector; nil where there is none.
func Probe(dev block.Device) (*fs.Content, error) {
	v, f, err := open(dev)
	if f == nil || err != nil {
		return nil, err
	}
	b, le := f.boot, binary.LittleEndian
	size, _ := quantity.Count(f.total).Times(quantity.Bytes(f.sector)) // below 2^44
	c := &fs.Content{Kind: name(v.clusters), Class: fs.FileSystem, State: fs.Clean, Size: size, BlockSize: quantity.Bytes(v.cluster),
		Types: []string{"vfat", "msdos"}, Ownerless: true, Super: extent.Span{Count: uint64(f.sector)},
		Signatures: []extent.Span{{Start: 0, Count: 3}, {Start: magicAt, Count: 2}}}
	at, serial, label := signature16, serial16, label16
	if f.wide {
		at, serial, label = signature32, serial32, label32
	}
	if f.signed() {
		id := le.Uint32(b[serial:])
		c.UUID = fmt.Sprintf("%04X-%04X", id>>16, id&0xFFFF)
	}
	other := strings.TrimRight(string(b[label:label+11]), " \x00")
	if c.Label, err = v.label(); err != nil { // systemd goes by this one alone
		return nil, err
	}
	// Linux sets this bit at a mount for writing and clears it at the unmount.
	if b[at-1]&1 != 0 {
		c.State = fs.Dirty
	}
	c.Facts = []fs.Fact{{
		Name: "shape",
		Value: fmt.Sprintf("%d sectors × %d bytes = %d bytes (%v); %d clusters of %d bytes", f.total, f.sector, size,
			size, v.clusters, v.cluster),
	}}
	if b[at] == 0x29 && other != "NO NAME" && other != "" && other != c.Label {
		c.Facts = append(c.Facts, fs.Fact{Name: "old label", Value: fmt.Sprintf("%q in the boot sector, which nothing uses", other)})
	}
	if f.wide {
		err = v.usage(c, int64(le.Uint16(b[infoSector:])))
	}
	return c, err
}

// The borders are the specification's; readers differ by a few clusters around them, so
// that nobody should make a file system that lies there.
func name(clusters uint64) string {
	switch {
	case clusters < 4085:
		return "FAT12"
	case clusters < 65525:
		return "FAT16"
	}
	return "FAT32"
}
