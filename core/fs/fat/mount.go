package fat

import (
	"encoding/binary"
	"fmt"

	"fundus/core/block"
	"fundus/core/fs"
)

// AtMount says why the kernel would refuse to mount what has a good boot sector: the root
// directory of FAT32 is a chain of clusters, which it follows to its end.
//
// Source: fs/fat/inode.c (fat_read_root, fat_calc_dir_size) and fs/fat/cache.c (fat_get_cluster)
// of Linux 6.1.
func AtMount(dev block.Device) (m fs.AtMount) {
	v, f, err := open(dev)
	if f == nil || err != nil || v.first == 0 {
		return m
	}
	// A directory has at most 65536 entries of 32 bytes: 2 MiB, which are 4096 clusters of the
	// smallest. Sixteen times that is far behind any that is used.
	const ends, most = 0x0FFFFFF8, 1 << 16 // clusters of a root directory; more are not gone through
	at, before := v.first, v.first
	for i := uint32(1); i < most; i++ {
		if !v.valid(at) {
			return fs.AtMount{Any: fmt.Sprintf("the root directory leads to cluster %d, which is none", at)}
		}
		b, err := v.bytes(v.table+4*int64(at), 4)
		if err != nil || b == nil {
			return fs.AtMount{Any: fmt.Sprintf("the table cannot be read at cluster %d", at)}
		}
		switch next := binary.LittleEndian.Uint32(b) & 0x0FFFFFFF; {
		case next >= ends:
			return m
		case next == 0:
			return fs.AtMount{Any: fmt.Sprintf("the chain of the root directory ends at cluster %d, which is free", at)}
		case next == before:
			return fs.AtMount{Any: "the chain of the root directory goes round in a circle"}
		default:
			// The place that is compared is renewed at each power of two: so it lies in the
			// circle sooner or later, and is kept for at least a round of it. No list of the
			// clusters is needed.
			if at = next; i&(i-1) == 0 { // whoever goes in a circle comes back to a place that is kept long enough
				before = at
			}
		}
	}
	return m
}
