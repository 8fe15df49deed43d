package probe

import (
	"fmt"

	"fundus/core/block"
	"fundus/core/fs"
)

// The superblock of bcache (drivers/md/bcache/bcache_ondisk.h of Linux 6.1),
// little-endian, offsets in bytes.
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
