package probe

import (
	"fmt"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/extent"
	"fundus/core/fs"
)

// The labels of a ZFS member: two of 256 KiB at the start, two at the end. Each
// has a list of names and values (XDR, big-endian) 16 KiB in, and uberblocks from
// 128 KiB on, in the byte order of their writer (ZFS on-disk specification).
//
// A pool has no superblock that is rewritten in place: 128 uberblocks in a ring, of which
// the newest that sums up counts. To recognise a member any one of them is enough.
const (
	zfsLabel     = 256 << 10
	zfsList      = 16 << 10
	zfsListSize  = 112 << 10
	zfsUber      = 128 << 10
	zfsUberSize  = 128 << 10
	zfsUberMagic = 0x00bab10c
	xdrEncoded   = 1 // of the list; behind it, version 0 and "each name once"
	xdrNumber    = 8 // types of values
	xdrText      = 9
	xdrMost      = 200 // pairs that are looked at
)

// ZFS recognises a member of a pool by an uberblock of its first label, else of
// its third.
func ZFS(dev block.Device) (*fs.Content, error) {
	for _, label := range []int64{0, dev.Size()/zfsLabel*zfsLabel - 2*zfsLabel} {
		if label < 0 {
			continue
		}
		list, err := read(dev, label+zfsList, 12, be)
		if err != nil {
			return nil, err
		}
		if list.u8(0) != xdrEncoded || list.u32(4) != 0 || list.u32(8) != 1 {
			continue
		}
		ubers, err := read(dev, label+zfsUber, zfsUberSize, le)
		if err != nil {
			return nil, err
		}
		for off := 0; off < len(ubers.b); off += 1024 {
			// Either byte order: the writer's is told by how the magic reads.
			if m := ubers.u64(off); m != zfsUberMagic && be.Uint64(ubers.raw(off, 8)) != zfsUberMagic {
				continue
			}
			c := found("ZFS member", fs.Member, label+zfsUber+int64(off), 8)
			return c, zfsNames(dev, c, label+zfsList)
		}
	}
	return nil, nil
}

// zfsNames reads the pool's name and number off the list: each pair has its
// lengths, the name, the value's type, and the value.
func zfsNames(dev block.Device, c *fs.Content, at int64) error {
	l, err := read(dev, at, zfsListSize, be)
	if err != nil || len(l.b) == 0 {
		return err
	}
	c.Signatures = append(c.Signatures, extent.Span{Start: uint64(at), Count: 4})
	off := 12 // encoding, version, flags
	for range xdrMost {
		size, n := int(l.u32(off)), int(l.u32(off+8))
		if size < 20 || size > len(l.b)-off || n <= 0 || n > 256 {
			return nil
		}
		name := l.text(off+12, n)
		value := off + 12 + (n+3)&^3
		switch kind := l.u32(value); {
		case kind == xdrText && name == "name":
			c.Label = l.text(value+12, int(min(l.u32(value+8), 256)))
		case kind == xdrNumber && name == "pool_guid":
			c.UUID = fmt.Sprint(l.u64(value + 8))
		case kind == xdrNumber && name == "version":
			c.Version = fmt.Sprint(l.u64(value + 8))
		case kind == xdrText && name == "hostname":
			fact(c, "host", "%s", l.text(value+12, int(min(l.u32(value+8), 256))))
		}
		off += size
	}
	return nil
}

// ZFSFields are the head of the first label: what it says stands in a list of
// names and values, not at fixed places.
func ZFSFields(dev block.Device) ([]field.Structure, error) {
	return structure(dev, "ZFS label", zfsList, be, []field.Spec{
		field.Words(1, "encoding of the list", map[uint64]string{0: "plain", 1: "XDR"}),
		field.Number(1, "byte order of the writer"),
		field.Bytes(2, "reserved"),
		field.Number(4, "version of the list"),
		field.Hex(4, "flags of the list"),
	})
}
