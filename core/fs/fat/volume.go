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
	// A root directory of 65536 entries would have 2 MiB; a label that stands behind the first
	// 4096 entries is not looked for at each look at a machine.
	mostRoot = 128 << 10 // bytes of the root directory that are looked at
)

// label is that of the root directory; "" where it has none.
func (v volume) label() (string, error) {
	at, there, err := v.labelPlace()
	if !there || err != nil {
		return "", err
	}
	name, err := v.bytes(at, entryAttribute)
	if err != nil || name == nil {
		return "", err
	}
	if name[0] == 0x05 { // stands for the mark of a deleted entry
		name[0] = entryDeleted
	}
	return strings.TrimRight(string(name), " "), nil
}

// labelPlace is the byte of the entry that holds the label; where there is none, of one that
// could: -1 where the directory is full.
//
// The label is an entry of the root directory with the volume attribute. FAT32 has the root
// directory in a chain of clusters, of which the first few are followed: a label that is
// set later may stand anywhere in it.
func (v volume) labelPlace() (at int64, there bool, err error) {
	if v.first == 0 {
		at, there, _, err = v.labelIn(v.root, v.rootSize)
		return at, there, err
	}
	free := int64(-1)
	for cluster, looked := v.first, int64(0); v.valid(cluster) && looked < mostRoot; looked += v.cluster {
		at, there, end, err := v.labelIn(v.data+int64(cluster-2)*v.cluster, v.cluster)
		if there || err != nil {
			return at, there, err
		}
		if free < 0 {
			free = at
		}
		if end {
			break
		}
		next, err := v.bytes(v.table+4*int64(cluster), 4)
		if err != nil || next == nil {
			return -1, false, err
		}
		// Of 32 bits 28 are the number; the upper four are kept by whoever writes, and mean
		// nothing.
		cluster = binary.LittleEndian.Uint32(next) & 0x0FFFFFFF
	}
	return free, false, nil
}

// valid reports whether the number is one of a cluster that there is: they begin at 2, since the first
// two places of a table hold the medium and the state.
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

// labelIn looks for a label among the entries, and for the first free one; end: there are no
// more behind them. The mark of the end is taken only where the entry behind it has it too:
// what stands there without it would come back as files.
func (v volume) labelIn(start, size int64) (at int64, there, end bool, err error) {
	b, err := v.bytes(start, min(size, mostRoot))
	free := int64(-1)
	for off := int64(0); int64(len(b))-off >= entrySize; off += entrySize {
		e := b[off:]
		switch attribute := e[entryAttribute]; {
		case e[0] == 0:
			if behind := off + entrySize; free < 0 && (behind >= int64(len(b)) || b[behind] == 0) {
				free = start + off
			}
			return free, false, true, nil
		case e[0] == entryDeleted:
			if free < 0 {
				free = start + off
			}
		// A long name is stored in entries whose attributes are those of a volume and more,
		// so that old systems skip them.
		case attribute&0x3F == isLongName || attribute&isVolume == 0:
		default:
			return start + off, true, true, nil
		}
	}
	return free, false, false, err
}

// usage is what FAT32 counts in a sector of its own, which may be out of date.
//
// Two magics guard the sector, since it lies among the reserved ones, where boot loaders
// put code.
func (v volume) usage(c *fs.Content, sector int64) error {
	// A count above the clusters there are is one that nobody ever filled: all ones stands for
	// "not known".
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
	c.Facts = append(c.Facts, fs.Fact{
		Name:  "space",
		Value: fmt.Sprintf("%v free: %d clusters × %d bytes, as recorded", quantity.Bytes(left)*c.BlockSize, left, v.cluster),
	})
	return nil
}
