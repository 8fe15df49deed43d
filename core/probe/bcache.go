package probe

import (
	"fmt"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/fs"
)

// The superblock of bcache (drivers/md/bcache/bcache_ondisk.h of Linux 6.1),
// little-endian, offsets in bytes.
//
// A device that is cached is itself the device whose content is seen through the cache:
// what lies behind the superblock may be older than what the cache holds, and must not be
// mounted from here.
const (
	bcacheAt      = 4096
	bcacheVersion = 16 // u64
	bcacheMagicAt = 24
	bcacheMagic   = "\xC6\x85\x73\xF6\x4E\x1A\x45\xCA\x82\x65\xF5\x7F\x48\xBA\x6D\x81"
	bcacheUUID    = 40
	bcacheLabel   = 72 // 32 bytes
)

// Bcache recognises a cache or what is cached.
func Bcache(dev block.Device) (*fs.Content, error) {
	l, err := read(dev, bcacheAt, 512, le)
	if err != nil || !l.has(bcacheMagicAt, bcacheMagic) || l.u64(8) != bcacheAt/512 {
		return nil, err
	}
	c := found("bcache", fs.Member, bcacheAt+bcacheMagicAt, len(bcacheMagic))
	c.UUID, c.Label, c.Version = l.uuid(bcacheUUID), l.text(bcacheLabel, 32), fmt.Sprint(l.u64(bcacheVersion))
	switch l.u64(bcacheVersion) {
	case 0, 3, 5:
		fact(c, "role", "a cache")
	case 1, 4, 6:
		fact(c, "role", "a device that is cached")
	}
	return c, nil
}

// BcacheFields are the fields of the superblock.
func BcacheFields(dev block.Device) ([]field.Structure, error) {
	return structure(dev, "bcache superblock", bcacheAt, le, []field.Spec{
		field.Hex(8, "checksum"),
		field.Number(8, "sector that it is in"),
		field.Number(8, "version"),
		field.Bytes(16, "signature"),
		field.ID(16, "UUID"),
		field.ID(16, "UUID of the set"),
		field.Text(32, "label"),
		field.Hex(8, "flags"),
		field.Number(8, "sequence number"),
		field.Hex(8, "compatible features"),
		field.Hex(8, "incompatible features"),
		field.Hex(8, "read-only compatible features"),
		field.Bytes(40, "reserved"),
		field.Number(8, "buckets, or first sector of the data"),
		field.Number(2, "sectors of a block"),
		field.Number(2, "sectors of a bucket"),
		field.Number(2, "devices of the set"),
		field.Number(2, "this device in the set"),
		field.Seconds(4, "last used"),
		field.Number(2, "first bucket"),
		field.Number(2, "buckets of the journal"),
	})
}
