package fat

import (
	"encoding/binary"
	"fmt"
	"strings"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/quantity"
)

// volume is where things lie on the device, in bytes.
type volume struct {
	dev             block.Device
	sector, cluster int64
	clusters        uint64
	table           int64  // the first one
	root, rootSize  int64  // of FAT12 and FAT16
	data            int64  // where cluster 2 begins
	first           uint32 // cluster of FAT32's root directory, else 0
}

// A directory entry, offsets in bytes.
const (
	entrySize      = 32
	entryAttribute = 11 // u8
	isVolume       = 0x08
	isLongName     = 0x0F
	entryDeleted   = 0xE5
	mostRoot       = 128 << 10 // bytes of the root directory that are looked at
)

// label is that of the root directory; "" where it has none.
//
// The label is an entry of the root directory with the volume attribute. FAT32 has the root
// directory in a chain of clusters, of which the first few are followed: a label that is
// set later may stand anywhere in it.
func (v volume) label() (string, error) {
	if v.first == 0 {
		text, _, err := v.labelIn(v.root, v.rootSize)
		return text, err
	}
	for cluster, looked := v.first, int64(0); v.valid(cluster) && looked < mostRoot; looked += v.cluster {
		text, end, err := v.labelIn(v.data+int64(cluster-2)*v.cluster, v.cluster)
		if text != "" || end || err != nil {
			return text, err
		}
		next, err := v.bytes(v.table+4*int64(cluster), 4)
		if err != nil || next == nil {
			return "", err
		}
		cluster = binary.LittleEndian.Uint32(next) & 0x0FFFFFFF
	}
	return "", nil
}

func (v volume) valid(cluster uint32) bool {
	return cluster >= 2 && uint64(cluster)-2 < v.clusters
}

// bytes gives nil where the device ends before them.
func (v volume) bytes(at, n int64) ([]byte, error) {
	if at < 0 || n > v.dev.Size() || at > v.dev.Size()-n {
		return nil, nil
	}
	return block.ReadSized(v.dev, at, n, mostRoot)
}

// labelIn looks for a label among the entries; end: there are no more behind
// them.
func (v volume) labelIn(at, size int64) (text string, end bool, err error) {
	b, err := v.bytes(at, min(size, mostRoot))
	for ; len(b) >= entrySize; b = b[entrySize:] {
		attribute := b[entryAttribute]
		switch {
		case b[0] == 0:
			return "", true, nil
		// A long name is stored in entries whose attributes are those of a volume and more,
		// so that old systems skip them.
		case b[0] == entryDeleted || attribute&0x3F == isLongName || attribute&isVolume == 0:
			continue
		}
		name := b[:entryAttribute]
		if name[0] == 0x05 { // stands for the mark of a deleted entry
			name = append([]byte{entryDeleted}, name[1:]...)
		}
		return strings.TrimRight(string(name), " "), true, nil
	}
	return "", false, err
}

// usage is what FAT32 counts in a sector of its own, which may be out of date.
//
// Two magics guard the sector, since it lies among the reserved ones, where boot loaders
// put code.
func (v volume) usage(c *fs.Content, sector int64) error {
	const firstMagic, second, free = 0x41615252, 484, 488
	b, err := v.bytes(sector*v.sector, 512)
	if err != nil || b == nil || sector == 0 {
		return err
	}
	le := binary.LittleEndian
	left := le.Uint32(b[free:])
	if le.Uint32(b) != firstMagic || le.Uint32(b[second:]) != 0x61417272 || uint64(left) > v.clusters {
		return nil
	}
	used, _ := quantity.Count(v.clusters - uint64(left)).Times(c.BlockSize) // below 2^44
	c.Used, c.HasUsage = used, true
	c.Facts = append(c.Facts, fs.Fact{Name: "room", Value: fmt.Sprintf("%v free: %d clusters × %d bytes, as recorded", quantity.Bytes(left)*c.BlockSize, left, v.cluster)})
	return nil
}
