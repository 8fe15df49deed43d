package mbr

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/quantity"
	"fundus/core/table"
)

// Table is an MBR as the sectors that it is made of.
type Table struct {
	sector  int64  // bytes
	sectors uint64 // of the device
	first   []byte // sector 0
	chain   []link // in the order of the chain, which is that of the numbers
	broken  error  // why the chain was not followed to its end
}

// link is a sector of the chain.
type link struct {
	at    uint64 // sector
	outer extent.Span
	raw   []byte
}

// data is where the logical partition lies; it is empty where the sector holds
// none.
func (l link) data() (record, extent.Span) {
	r := recordOf(l.raw, dataRecord)
	if !r.used() || r.extended() {
		return r, extent.Span{}
	}
	return r, extent.Span{Start: l.at + r.first(), Count: r.count()}
}

// Errors of chains.
var (
	ErrChain   = errors.New("the chain of logical partitions is broken")
	ErrUnusual = errors.New("the chain has a form that Fundus reads but does not change")
)

// Read gives the table, or nil where sector 0 holds no MBR of its own: no magic, a
// boot flag that is neither 0 nor 0x80, a record that announces a GPT, or the boot
// sector of a file system.
func Read(dev block.Device) (*Table, error) {
	sector := dev.Geometry().Logical
	if dev.Size() < sector || sector < size {
		return nil, nil
	}
	first, err := block.ReadSized(dev, 0, sector, 1<<16)
	if err != nil {
		return nil, err
	}
	t := &Table{sector: sector, sectors: uint64(dev.Size() / sector), first: slices.Clone(first)}
	if !t.believed() {
		return nil, nil
	}
	for i := range slots {
		if r := recordOf(t.first, i); r.used() && r.extended() {
			if err := t.follow(dev, extent.Span{Start: r.first(), Count: r.count()}); err != nil {
				return nil, err
			}
		}
	}
	return t, nil
}

// 55 AA alone means nothing: boot sectors end with it, and random code before it looks like
// partitions. Linux wants each boot flag to be 0 or 0x80; a table without partitions is
// believed only where it has a signature and nothing looks like the boot sector of a file
// system.
func (t *Table) believed() bool {
	if binary.LittleEndian.Uint16(t.first[magic:]) != 0xAA55 {
		return false
	}
	used := false
	for i := range slots {
		r := recordOf(t.first, i)
		if r.boot()&0x7F != 0 || r.kind() == typeGPT {
			return false
		}
		used = used || r.used()
	}
	return used || t.ID() != 0 && !bootSector(t.first)
}

// bootSector reports whether the sector begins a file system that has the same
// magic: FAT and NTFS say there how large a sector is, exFAT its name.
func bootSector(b []byte) bool {
	perSector := binary.LittleEndian.Uint16(b[11:])
	return perSector >= 512 && perSector <= 4096 && perSector&(perSector-1) == 0 && b[13] != 0 || bytes.Equal(b[3:11], []byte("EXFAT   "))
}

// follow reads the chain of one extended partition. What is wrong with the chain
// is kept; an error is one of the device.
//
// A chain may be made to be evil: leading back, out of its partition, or on for ever. Linux
// stops after a hundred without a partition; here every sector may be visited once.
func (t *Table) follow(dev block.Device, outer extent.Span) error {
	at := outer.Start
	for {
		switch {
		case at >= t.sectors:
			t.broken = fmt.Errorf("%w: it goes on at sector %d, the disk has %d", ErrChain, at, t.sectors)
			return nil
		case !outer.Contains(extent.Span{Start: at, Count: 1}):
			t.broken = fmt.Errorf("%w: it goes on at sector %d, outside of its extended partition (%v)", ErrChain, at, outer)
			return nil
		case slices.ContainsFunc(t.chain, func(l link) bool { return l.at == at }):
			t.broken = fmt.Errorf("%w: it comes back to sector %d", ErrChain, at)
			return nil
		case len(t.chain) >= mostLinks:
			t.broken = fmt.Errorf("%w: it has more than %d sectors", ErrChain, mostLinks)
			return nil
		}
		raw, err := block.ReadSized(dev, int64(at)*t.sector, t.sector, 1<<16)
		if err != nil {
			return err
		}
		if binary.LittleEndian.Uint16(raw[magic:]) != 0xAA55 {
			t.broken = fmt.Errorf("%w: sector %d has no signature", ErrChain, at)
			return nil
		}
		l := link{at, outer, slices.Clone(raw)}
		t.chain = append(t.chain, l)
		next, ok := l.next()
		if !ok {
			return nil
		}
		at = outer.Start + next.first()
	}
}

// next is the record that leads on: the first extended one.
func (l link) next() (record, bool) {
	for i := range slots {
		if r := recordOf(l.raw, i); r.used() && r.extended() {
			return r, true
		}
	}
	return nil, false
}

// plain reports whether the sector has the form that Fundus writes: at most one
// partition, then the link.
func (l link) plain() bool {
	data, next := recordOf(l.raw, dataRecord), recordOf(l.raw, linkRecord)
	return !(data.used() && data.extended()) && !(next.used() && !next.extended()) && !recordOf(l.raw, 2).used() && !recordOf(l.raw, 3).used()
}

// logicals are the partitions of the chain in its order, as Linux finds them.
func (t *Table) logicals() (list []table.Partition) {
	for _, l := range t.chain {
		for i := range slots {
			r := recordOf(l.raw, i)
			span := extent.Span{Start: l.at + r.first(), Count: r.count()}
			if firstLogical+len(list) == mostLinks {
				return list // Linux takes no more
			}
			if !r.used() || r.extended() || i >= 2 && !l.outer.Contains(span) { // the last two may be anything
				continue
			}
			list = append(list, t.partition(firstLogical+len(list), r, span, table.Logical))
		}
	}
	return list
}

// The PARTUUID is what Linux makes of it (block/partitions/msdos.c): it holds the number,
// so that it changes with it.
func (t *Table) partition(number int, r record, span extent.Span, role table.Role) table.Partition {
	return table.Partition{Number: number, Span: span, Type: fmt.Sprintf("%02x", r.kind()), UUID: fmt.Sprintf("%08x-%02x", t.ID(), number),
		Attributes: uint64(r.boot()), Role: role}
}

// ID is the disk signature.
func (t *Table) ID() uint32 { return binary.LittleEndian.Uint32(t.first[diskSignature:]) }

// Model is the table in the common form. A PARTUUID is the disk signature with the
// number.
func (t *Table) Model() *table.Table {
	m := &table.Table{Scheme: table.MBR, ID: fmt.Sprintf("%08x", t.ID()), Sector: quantity.Bytes(t.sector), Slots: slots,
		Usable: extent.Span{Start: 1, Count: min(t.sectors, reach) - 1}}
	for i := range slots {
		r := recordOf(t.first, i)
		if !r.used() {
			continue
		}
		role := table.Primary
		if r.extended() {
			role = table.Extended
		}
		m.Parts = append(m.Parts, t.partition(i+1, r, extent.Span{Start: r.first(), Count: r.count()}, role))
	}
	m.Parts = append(m.Parts, t.logicals()...)
	for _, l := range t.chain {
		m.Chain = append(m.Chain, extent.Span{Start: l.at, Count: 1})
	}
	return m
}
