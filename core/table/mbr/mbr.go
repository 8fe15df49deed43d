// Package mbr recognises master boot records and reads their four primary
// slots.
//
// Source: UEFI Specification 2.10, section 5.2.1 (Legacy MBR); what Linux
// takes for one: block/partitions/msdos.c.
package mbr

import (
	"encoding/binary"
	"fmt"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/quantity"
	"fundus/core/table"
)

// Layout of sector 0, offsets in bytes.
const (
	diskSignature = 440 // u32
	records       = 446 // four of 16 bytes
	recordSize    = 16
	recordBoot    = 0  // u8: 0 or 0x80
	recordType    = 4  // u8
	recordFirst   = 8  // u32
	recordCount   = 12 // u32
	magic         = 510
	typeGPT       = 0xEE
)

// Read gives the primary partitions, or nil where sector 0 holds no MBR of
// its own: no magic, a boot flag that is neither 0 nor 0x80 (then it is a boot
// sector of a file system), no record at all, or a record that announces a
// GPT.
func Read(dev block.Device) (*table.Table, error) {
	sector := dev.Geometry().Logical
	if dev.Size() < sector || sector < 512 {
		return nil, nil
	}
	b, err := block.ReadSized(dev, 0, 512, 512)
	if err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	if le.Uint16(b[magic:]) != 0xAA55 {
		return nil, nil
	}
	sectors := uint64(dev.Size() / sector)
	id := le.Uint32(b[diskSignature:])
	t := &table.Table{Scheme: table.MBR, ID: fmt.Sprintf("%08x", id), Sector: quantity.Bytes(sector), Slots: 4,
		Usable: extent.Span{Start: 1, Count: min(sectors, 1<<32) - 1}}
	for i := range 4 {
		r := b[records+i*recordSize:]
		kind, span := r[recordType], extent.Span{Start: uint64(le.Uint32(r[recordFirst:])), Count: uint64(le.Uint32(r[recordCount:]))}
		if r[recordBoot]&0x7F != 0 || kind == typeGPT {
			return nil, nil
		}
		if kind == 0 || span.Count == 0 {
			continue
		}
		t.Parts = append(t.Parts, table.Partition{Number: i + 1, Span: span, Type: fmt.Sprintf("%02x", kind),
			UUID: fmt.Sprintf("%08x-%02x", id, i+1), Attributes: uint64(r[recordBoot])})
	}
	if len(t.Parts) == 0 {
		return nil, nil
	}
	return t, nil
}
