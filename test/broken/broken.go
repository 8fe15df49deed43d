// Package broken makes disks whose tables Linux does not take as they are written, each with the
// partitions that it makes of them. The same disks are judged in core and by a real kernel.
package broken

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/quantity"
	"fundus/core/table"
	"fundus/core/table/schemes"
)

// Disk is one of them.
type Disk struct {
	Name   string
	Scheme table.Scheme
	Spoil  func(dev block.Device) error
	Linux  string // number, first sector and count of each partition that the kernel has
}

// Size and Sector are those of every such disk, in bytes.
const (
	Size   = 64 << 20
	Sector = 512
)

// whole is what the disk has before it is spoilt.
const whole = "1:2048+8192 2:10240+8192"

// Disks lists them.
func Disks() []Disk {
	zero := func(at, n int64) func(block.Device) error {
		return func(dev block.Device) error { return block.WriteBytes(dev, make([]byte, n), at) }
	}
	set := func(at int64, b ...byte) func(block.Device) error {
		return func(dev block.Device) error { return block.WriteBytes(dev, b, at) }
	}
	sectors := uint32(Size / Sector)
	return []Disk{
		{"a GPT as it should be", table.GPT, zero(Size-512, 0), whole},
		{"the primary copy of a GPT is gone", table.GPT, zero(512, 33*512), ""},
		{"the backup copy of a GPT is gone", table.GPT, zero(Size-512, 512), whole},
		{"one byte of the primary array is another", table.GPT, set(1024+56, 'x'), ""},
		{"the protective record begins with sector 2", table.GPT, set(446+8, 2), ""},
		{"no protective record", table.GPT, zero(446, 66), ""},
		{"a protective record of another size", table.GPT, set(446+12, 9, 0, 0, 0), whole},
		{"an MBR before a GPT", table.GPT, set(446, 0, 0, 0, 0, 0x83, 0, 0, 0, 0, 16, 0, 0, 0, 16, 0, 0), "1:4096+4096"},
		{
			"a GPT for a larger disk", table.GPT,
			header(func(h, array []byte) { binary.LittleEndian.PutUint64(h[48:], uint64(sectors)) }), "",
		},
		{
			"an entry that reaches past the end", table.GPT,
			header(func(h, array []byte) { binary.LittleEndian.PutUint64(array[128+40:], uint64(sectors)) }),
			"1:2048+8192",
		},
		{
			"an entry of no sectors", table.GPT,
			header(func(h, array []byte) { binary.LittleEndian.PutUint64(array[40:], 2047) }), "2:10240+8192",
		},
		{
			"a record that reaches past the end", table.MBR, set(446+16+12, 0xFF, 0xFF, 0xFF, 0),
			fmt.Sprintf("1:2048+8192 2:10240+%d", sectors-10240),
		},
		{"a record that begins past the end", table.MBR, set(446+16+8, 0, 0, 0, 1), "1:2048+8192"},
		{"a boot flag that is none", table.MBR, set(446+16, 0x40), ""},
		{"a record of no sectors", table.MBR, set(446+12, 0, 0, 0, 0), "2:10240+8192"},
	}
}

// Make gives the device, which is empty, the table with its fault.
func (d Disk) Make(dev block.Device) error {
	e, err := schemes.New(dev, schemes.Wanted{Scheme: d.Scheme, Step: quantity.MiB, ID: uuid.UUID{5, 0x5e, 0xed}})
	if err != nil {
		return err
	}
	kind, err := table.ParseType(d.Scheme, "linux")
	for i := range uint64(2) {
		if err == nil {
			err = e.Add(table.Partition{Span: extent.Span{Start: 2048 + i*8192, Count: 8192}, Type: kind, UUID: uuid.NewString()})
		}
	}
	if err == nil {
		_, err = e.Write(dev)
	}
	if err != nil {
		return err
	}
	return d.Spoil(dev)
}

// header changes the primary copy of a GPT, with sums that are right.
func header(change func(h, array []byte)) func(block.Device) error {
	return func(dev block.Device) error {
		h, err := block.ReadSized(dev, 512, 512, 512)
		if err != nil {
			return err
		}
		array, err := block.ReadSized(dev, 1024, 128*128, 1<<20)
		if err != nil {
			return err
		}
		change(h, array)
		binary.LittleEndian.PutUint32(h[88:], crc32.ChecksumIEEE(array))
		clear(h[16:20])
		binary.LittleEndian.PutUint32(h[16:], crc32.ChecksumIEEE(h[:92]))
		if err := block.WriteBytes(dev, h, 512); err != nil {
			return err
		}
		return block.WriteBytes(dev, array, 1024)
	}
}
