package probe

import (
	"fmt"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/fs"
)

// NTFS: the boot sector, and record 3 of the master file table, which holds the
// volume's name and flags (fs/ntfs3/ntfs.h of Linux 6.1), little-endian, offsets
// in bytes.
//
// The label and the dirty flag are attributes of the file $Volume, which is always record 3
// of the file table. The boot sector says where the table begins, in clusters; sizes of
// clusters and records are one byte each, in which large values are negative exponents.
const (
	ntfsMagicAt  = 3
	ntfsMagic    = "NTFS    "
	ntfsSector   = 11 // u16
	ntfsCluster  = 13 // u8: sectors; beyond 0x80 an exponent, negated
	ntfsSectors  = 40 // u64
	ntfsTable    = 48 // u64: cluster of the master file table
	ntfsRecord   = 64 // s8: clusters; negative: 2 to its amount, bytes
	ntfsSerial   = 72 // u64
	recordMagic  = "FILE"
	recordFixup  = 4  // u16: where the fix-up list is; its length behind it
	recordFirst  = 20 // u16: first attribute
	volumeRecord = 3
	attrName     = 0x60
	attrVolume   = 0x70
	attrEnd      = 0xFFFFFFFF
	volumeDirty  = 1
)

// NTFS recognises NTFS.
func NTFS(dev block.Device) (*fs.Content, error) {
	l, err := read(dev, 0, 512, le)
	if err != nil || !l.has(ntfsMagicAt, ntfsMagic) {
		return nil, err
	}
	c := found("ntfs", fs.FileSystem, ntfsMagicAt, len(ntfsMagic))
	c.Ownerless, c.Types = true, []string{"ntfs3", "ntfs"} // the kernel's drivers, the newer first
	sector, per := uint64(l.u16(ntfsSector)), uint64(l.u8(ntfsCluster))
	// Above 128 it means 2 to the power of 256 less the value; 128 itself is a number.
	if per > 0x80 {
		per = power(256 - per)
	}
	cluster := sector * per
	if !powerOfTwo(sector, 256, 4096) || !powerOfTwo(cluster, 256, 2<<20) || l.u64(ntfsSectors) == 0 {
		return damaged(c, "sectors of %d bytes, clusters of %d", sector, cluster), nil
	}
	c.UUID = fmt.Sprintf("%016X", l.u64(ntfsSerial))
	c.BlockSize, c.Size = times(cluster, 1), times(l.u64(ntfsSectors), sector)
	fact(c, "shape", "%d sectors × %d bytes = %d bytes (%v)", l.u64(ntfsSectors), sector, c.Size, c.Size)
	fact(c, "shape", "clusters of %d bytes", cluster)
	record := uint64(l.u8(ntfsRecord)) * cluster
	if n := int8(l.u8(ntfsRecord)); n < 0 {
		record = power(uint64(-int(n)))
	}
	if !powerOfTwo(record, 256, 65536) {
		return damaged(c, "records of %d bytes", record), nil
	}
	at := times(l.u64(ntfsTable), cluster) + times(volumeRecord, record)
	return c, ntfsVolume(dev, c, int64(at), int64(record), int(sector))
}

// ntfsVolume reads name and state.
func ntfsVolume(dev block.Device, c *fs.Content, at, size int64, sector int) error {
	l, err := read(dev, at, size, le)
	if err != nil || !l.has(0, recordMagic) {
		return err
	}
	fixUp(l, sector)
	for off := int(l.u16(recordFirst)); off+24 <= len(l.b); {
		kind, length := l.u32(off), int(l.u32(off+4))
		if kind == attrEnd || length < 24 || length > len(l.b)-off {
			return nil
		}
		value, n := off+int(l.u16(off+20)), int(l.u32(off+16))
		switch {
		// What is not resident lies elsewhere on the volume; name and flags never do.
		case l.u8(off+8) != 0: // not resident
		case kind == attrName && n <= 512:
			c.Label = l.wide(value, n/2, le)
		case kind == attrVolume:
			c.Version = fmt.Sprintf("%d.%d", l.u8(value+8), l.u8(value+9))
			c.State = fs.Clean
			if l.u16(value+10)&volumeDirty != 0 {
				c.State = fs.Dirty
			}
		}
		off += length
	}
	return nil
}

// fixUp puts back the last two bytes of each sector, which a record keeps in a
// list.
//
// The two bytes are replaced by a number that grows with each write, so that a torn record
// is seen: its sectors end with different numbers. Reading puts the bytes back in place.
func fixUp(l look, sector int) {
	list, n := int(l.u16(recordFixup)), int(l.u16(recordFixup+2))
	for i := 1; i < n; i++ {
		end := i*sector - 2
		if end+2 > len(l.b) || list+2*i+2 > len(l.b) {
			return
		}
		copy(l.b[end:end+2], l.b[list+2*i:list+2*i+2])
	}
}

// NTFSFields are the fields of the boot sector.
func NTFSFields(dev block.Device) ([]field.Structure, error) {
	return structure(dev, "NTFS boot sector", 0, le, []field.Spec{
		field.Bytes(3, "jump"),
		field.Text(8, "signature"),
		field.Number(2, "sector, in bytes"),
		field.Number(1, "sectors of a cluster"),
		field.Number(2, "reserved sectors"),
		field.Bytes(5, "unused"),
		field.Hex(1, "medium"),
		field.Bytes(2, "unused"),
		field.Number(2, "sectors of a track"),
		field.Number(2, "heads"),
		field.Number(4, "sectors before the volume"),
		field.Bytes(4, "unused"),
		field.Hex(4, "drive"),
		field.Number(8, "sectors"),
		field.Number(8, "cluster of the file table"),
		field.Number(8, "cluster of its mirror"),
		field.Signed(4, "clusters of a file record, or an exponent of bytes"),
		field.Signed(4, "clusters of an index record, or an exponent of bytes"),
		field.Hex(8, "serial number"),
		field.Hex(4, "checksum"),
		field.Bytes(426, "boot code"),
		field.Hex(2, "signature"),
	})
}
