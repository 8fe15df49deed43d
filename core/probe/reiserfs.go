package probe

import (
	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/fs"
)

// The superblock of ReiserFS (fs/reiserfs/reiserfs.h of Linux 6.1),
// little-endian, offsets in bytes.
const (
	reiserBlocks = 0  // u32
	reiserFree   = 4  // u32
	reiserBlock  = 44 // u16
	reiserState  = 50 // u16: 1 clean, 2 in use
	reiserMagic  = 52
	reiserUUID   = 84
	reiserLabel  = 100 // 16 bytes
)

// ReiserFS recognises ReiserFS 3.5 and 3.6.
func ReiserFS(dev block.Device) (*fs.Content, error) {
	// Versions before 3.5.9 had the superblock at 8 KiB. Where both places have one, the
	// later place is the file system that was made last.
	for _, at := range []int64{64 << 10, 8 << 10} {
		l, err := read(dev, at, 256, le)
		if err != nil {
			return nil, err
		}
		version := ""
		for magic, v := range map[string]string{"ReIsErFs": "3.5", "ReIsEr2Fs": "3.6", "ReIsEr3Fs": "3.6, journal apart"} {
			if l.has(reiserMagic, magic) {
				version = v
			}
		}
		if version == "" {
			continue
		}
		c := found("reiserfs", fs.FileSystem, at+reiserMagic, 10)
		c.Version = version
		size := uint64(l.u16(reiserBlock))
		if !powerOfTwo(size, 512, 8192) {
			return damaged(c, "blocks of %d bytes", size), nil
		}
		// Version 3.5 has other things in these bytes.
		if version != "3.5" {
			c.UUID, c.Label = l.uuid(reiserUUID), l.text(reiserLabel, 16)
		}
		if c.State = fs.Recovery; l.u16(reiserState) == 1 {
			c.State = fs.Clean
		}
		sized(c, uint64(l.u32(reiserBlocks)), size)
		usedBlocks(c, uint64(l.u32(reiserFree)))
		return c, nil
	}
	return nil, nil
}

// ReiserFSFields are the fields of the superblock.
func ReiserFSFields(dev block.Device) ([]field.Structure, error) {
	return structure(dev, "ReiserFS superblock", 64<<10, le, []field.Spec{
		field.Number(4, "blocks"),
		field.Number(4, "free blocks"),
		field.Number(4, "root block"),
		field.Bytes(32, "journal"),
		field.Number(2, "block, in bytes"),
		field.Number(2, "longest list of objects"),
		field.Number(2, "list of objects"),
		field.Words(2, "state", map[uint64]string{1: "clean", 2: "in use"}),
		field.Text(10, "signature"),
		field.Hex(2, "state of a rebuild"),
		field.Number(4, "hash of names"),
		field.Number(2, "height of the tree"),
		field.Number(2, "bitmap blocks"),
		field.Number(2, "version"),
		field.Number(2, "blocks kept for a journal"),
		field.Number(4, "generation of inodes"),
		field.Hex(4, "flags"),
		field.ID(16, "UUID"),
		field.Text(16, "label"),
		field.Number(2, "mounts since the last check"),
		field.Number(2, "mounts between checks"),
		field.Seconds(4, "last check"),
		field.Number(4, "seconds between checks"),
		field.Bytes(76, "unused"),
	})
}
