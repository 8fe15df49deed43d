package broken

import (
	"context"
	"encoding/binary"
	"strings"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/kind"
)

// Content is a file system with a superblock that sums up, and a fault behind it.
type Content struct {
	Name  string
	Word  string // that makes it, with settings
	Type  string // as which it is mounted
	Bytes int64
	Spoil func(dev block.Device) error
	Any   bool // the kernel refuses a mount for reading
	Write bool // it refuses one for writing
	Left  bool // it mounts it all the same where the journal is left alone
}

const mib = 1 << 20

// Contents lists them. Places are those of the formats' sources, on what the makers make of the
// size.
func Contents() []Content {
	ext4, xfs, fat := "ext4 block=4KiB", "xfs", "fat bits=32"
	fill := func(b byte, at func(get) int64, n int) func(block.Device) error {
		return func(dev block.Device) error {
			return block.WriteBytes(dev, []byte(strings.Repeat(string([]byte{b}), n)), at(reader(dev)))
		}
	}
	is := func(at int64) func(get) int64 { return func(get) int64 { return at } }
	inode := func(number, at int64) func(get) int64 {
		return func(get get) int64 { return get(4096+8, 4)*4096 + (number-1)*256 + at }
	}
	journal := func(at int64) func(get) int64 {
		return func(get get) int64 { return get(inode(8, 40+12+8)(get), 4)*4096 + at }
	}
	root := func(at int64) func(get) int64 { // of XFS, whose first group begins the device
		return func(get get) int64 {
			number := get(60, -4)
			return number*512 + at
		}
	}
	list := []Content{
		{"ext4 as it should be", ext4, "ext4", 0, fill(0, is(0), 1), false, false, false},
		{"ext4 whose descriptors are gone", ext4, "ext4", 0, fill(0xFF, is(4096), 4096), true, true, false},
		{"ext4 with a descriptor that is summed wrongly", ext4, "ext4", 0, fill(0x55, is(4096+0x0C), 2), false, true, false},
		{"ext4 whose root is no directory", ext4, "ext4", 0, fill(0, inode(2, 0), 2), true, true, false},
		{"ext4 whose root is summed wrongly", ext4, "ext4", 0, fill(0x55, inode(2, 0x10), 2), true, true, false},
		{"ext4 whose journal has no inode", ext4, "ext4", 0, fill(0, inode(8, 0), 256), true, true, false},
		{"ext4 whose journal has no superblock", ext4, "ext4", 0, fill(0, journal(0), 64), true, true, true},
		{"ext4 whose journal is longer than its file", ext4, "ext4", 0, fill(0x7F, journal(16), 4), true, true, true},
		{"ext4 whose journal begins nowhere", ext4, "ext4", 0, fill(0, journal(20), 4), true, true, true},
		{"ext4 whose journal has a feature of tomorrow", ext4, "ext4", 0, fill(0x80, journal(40), 1), true, true, true},
		{"ext4 whose lost+found is gone", ext4, "ext4", 0, fill(0, inode(11, 0), 256), false, false, false},
		{
			"ext4 whose bitmap is gone", ext4, "ext4", 0,
			fill(0, func(get get) int64 { return get(4096, 4) * 4096 }, 4096), false, false, false,
		},
		{
			"ext3 without a root", "ext3 block=4KiB", "ext3", 0,
			fill(0, func(get get) int64 { return get(4096+8, 4)*4096 + 256 }, 128), true, true, false,
		},
		{"ext2 whose descriptors are gone", "ext2 block=1KiB", "ext2", 0, fill(0xFF, is(2048), 32), true, true, false},
		{"xfs as it should be", xfs, "xfs", 300 * mib, fill(0, is(300*mib-1), 1), false, false, false},
		{"xfs whose root is summed wrongly", xfs, "xfs", 300 * mib, fill(0x55, root(20), 2), true, true, false},
		{"xfs whose root has a neighbour without a signature", xfs, "xfs", 300 * mib, fill(0, root(512*5), 2), true, true, false},
		{"xfs whose bitmap of the realtime part is gone", xfs, "xfs", 300 * mib, fill(0, root(512), 512), true, true, false},
		{
			"xfs whose second group has no header of free space", xfs, "xfs", 300 * mib,
			fill(0, func(get get) int64 { return get(84, -4)*4096 + 512 }, 512), false, true, false,
		},
		{"xfs whose first group has no header of inodes", xfs, "xfs", 300 * mib, fill(0, is(1024), 512), true, true, false},
		{
			"xfs whose second group has no header of inodes", xfs, "xfs", 300 * mib,
			fill(0, func(get get) int64 { return get(84, -4)*4096 + 1024 }, 512), false, true, false,
		},
		{
			"xfs whose tree of inodes is gone", xfs, "xfs", 300 * mib,
			fill(0, func(get get) int64 { return get(1024+20, -4) * 4096 }, 64), true, true, false,
		},
		{
			"xfs whose root is listed as free", xfs, "xfs", 300 * mib,
			fill(0xFF, func(get get) int64 { return get(1024+20, -4)*4096 + 56 + 8 }, 8), true, true, false,
		},
		{"FAT32 as it should be", fat, "vfat", 300 * mib, fill(0, is(300*mib-1), 1), false, false, false},
		{
			"FAT32 whose table is gone", fat, "vfat", 300 * mib,
			fill(0, func(get get) int64 { return get(14, 2) * 512 }, 512), true, true, false,
		},
		{"FAT32 whose root leads in a circle", fat, "vfat", 300 * mib, func(dev block.Device) error {
			return block.WriteBytes(dev, []byte{2, 0, 0, 0}, reader(dev)(14, 2)*512+8)
		}, true, true, false},
	}
	for i := range list {
		if list[i].Bytes == 0 {
			list[i].Bytes = 64 * mib
		}
	}
	return list
}

// get is the number of so many bytes at a place: the least significant first, of a negative width
// the most significant.
type get func(at int64, width int) int64

func reader(dev block.Device) get {
	return func(at int64, width int) int64 {
		b := make([]byte, max(width, -width))
		if _, err := dev.ReadAt(b, at); err != nil {
			return -1
		}
		switch width {
		case 2:
			return int64(binary.LittleEndian.Uint16(b))
		case -4:
			return int64(binary.BigEndian.Uint32(b))
		}
		return int64(binary.LittleEndian.Uint32(b))
	}
}

// Make gives the device, which is empty, the content with its fault.
func (c Content) Make(ctx context.Context, dev block.Device) error {
	word, settings, _ := strings.Cut(c.Word, " ")
	m, err := kind.FindMaker(word)
	if err != nil {
		return err
	}
	wishes := fs.Wishes{}
	if key, value, given := strings.Cut(settings, "="); given {
		wishes[key] = fs.Wish{Word: value, By: fs.ByRequest}
	}
	if _, err := m.Make(ctx, dev, fs.Order{
		Label:  "SEEDS",
		ID:     m.ID.Fresh(uuid.New()),
		Wishes: wishes,
		Time:   time.Unix(1772352000, 0),
		Fresh:  uuid.New,
	}); err != nil {
		return err
	}
	return c.Spoil(dev)
}
