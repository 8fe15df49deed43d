package probe

import (
	"fmt"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/fs"
)

// exFAT (the published specification, main boot region), little-endian, offsets
// in bytes.
//
// Everything up to the cluster heap is counted in sectors, whose size the boot sector gives
// as an exponent. The label is an entry of the root directory; the boot sector has none.
const (
	exfatMagicAt  = 3
	exfatMagic    = "EXFAT   "
	exfatSectors  = 72  // u64
	exfatHeap     = 88  // u32: first sector of clusters
	exfatClusters = 92  // u32
	exfatRoot     = 96  // u32: first cluster of the root directory
	exfatSerial   = 100 // u32
	exfatRevision = 104 // u16
	exfatFlags    = 106 // u16; bit 1: dirty
	exfatSector   = 108 // u8: an exponent
	exfatCluster  = 109 // u8: an exponent, sectors
	exfatPercent  = 112 // u8: in use, 255 where not known
	exfatName     = 0x83
)

// ExFAT recognises exFAT.
func ExFAT(dev block.Device) (*fs.Content, error) {
	l, err := read(dev, 0, 512, le)
	if err != nil || !l.has(exfatMagicAt, exfatMagic) {
		return nil, err
	}
	c := found("exfat", fs.FileSystem, exfatMagicAt, len(exfatMagic))
	c.Ownerless = true
	sector, per := power(uint64(l.u8(exfatSector))), power(uint64(l.u8(exfatCluster)))
	// A cluster has at most 32 MiB; without that limit a wrong exponent overflows below.
	if !powerOfTwo(sector, 512, 4096) || !powerOfTwo(per, 1, 32<<20/sector) {
		return damaged(c, "sectors of 2^%d bytes, clusters of 2^%d sectors", l.u8(exfatSector), l.u8(exfatCluster)), nil
	}
	c.UUID = fmt.Sprintf("%04X-%04X", l.u32(exfatSerial)>>16, l.u32(exfatSerial)&0xFFFF)
	c.Version = fmt.Sprintf("%d.%d", l.u16(exfatRevision)>>8, l.u16(exfatRevision)&0xFF)
	if c.State = fs.Clean; l.u16(exfatFlags)&2 != 0 {
		c.State = fs.Dirty
	}
	c.BlockSize, c.Size = times(sector*per, 1), times(l.u64(exfatSectors), sector)
	fact(c, "shape", "%d sectors × %d bytes = %d bytes (%v)", l.u64(exfatSectors), sector, c.Size, c.Size)
	fact(c, "shape", "%d clusters of %d bytes", l.u32(exfatClusters), sector*per)
	// The share in use is rounded down to a percent, and 255 where whoever mounted it last
	// did not count: the bitmap alone knows better, and may be large.
	if p := l.u8(exfatPercent); p <= 100 {
		c.Used, c.HasUsage = times(uint64(l.u32(exfatClusters))*uint64(p)/100, sector*per), true
	}
	root := uint64(l.u32(exfatRoot))
	if root < 2 {
		return c, nil
	}
	dir, err := read(dev, int64(times(uint64(l.u32(exfatHeap)), sector)+times(root-2, sector*per)), int64(min(sector*per, 4096)), le)
	for off := 0; off+32 <= len(dir.b); off += 32 {
		if kind := dir.u8(off); kind == 0 {
			break
		} else if kind == exfatName && dir.u8(off+1) <= 11 {
			c.Label = dir.wide(off+2, int(dir.u8(off+1)), le)
		}
	}
	return c, err
}

// ExFATFields are the fields of the boot sector.
func ExFATFields(dev block.Device) ([]field.Structure, error) {
	return structure(dev, "exFAT boot sector", 0, le, []field.Spec{
		field.Bytes(3, "jump"),
		field.Text(8, "signature"),
		field.Bytes(53, "must be zero"),
		field.Number(8, "sectors before the volume"),
		field.Number(8, "sectors"),
		field.Number(4, "first sector of the table"),
		field.Number(4, "sectors of the table"),
		field.Number(4, "first sector of the clusters"),
		field.Number(4, "clusters"),
		field.Number(4, "cluster of the root directory"),
		field.Hex(4, "serial number"),
		field.Hex(2, "revision"),
		field.Bits(2, "state", "second table", "dirty", "media failure", "clear to zero"),
		field.Power(1, "sector, in bytes"),
		field.Power(1, "sectors of a cluster"),
		field.Number(1, "tables"),
		field.Hex(1, "drive"),
		field.Number(1, "share in use, percent"),
		field.Bytes(7, "reserved"),
		field.Bytes(390, "boot code"),
		field.Hex(2, "signature"),
	})
}
