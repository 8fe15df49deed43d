//go:build proof

package kernel

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"io"
	"os"
	"slices"
)

// extCount reads an ext by itself, with nothing of core: which blocks and inodes are in use, from
// the inodes and their maps alone, against what bitmaps, descriptors and superblock say.
//
// Source: Documentation/filesystems/ext4 of Linux 6.1.
type extCount struct {
	f                                            io.ReaderAt
	bs, first, blocks, bpg, ipg, isz, groups     uint64
	firstInode, firstMeta, descSize, perDesc, gd uint64 // gd: blocks of descriptors in one piece
	incompat, ro                                 uint32
	claimed                                      []run
	attributes                                   map[uint64]bool
	wrong                                        []string
}

type run struct{ start, count uint64 }

// countedExt says what is wrong with the counts of an image that nobody has mounted.
func countedExt(path string) []string {
	f, err := os.Open(path)
	if err != nil {
		return []string{err.Error()}
	}
	defer f.Close()
	sb := make([]byte, 1024)
	if _, err := f.ReadAt(sb, 1024); err != nil {
		return []string{err.Error()}
	}
	le := binary.LittleEndian
	u32 := func(at int) uint64 { return uint64(le.Uint32(sb[at:])) }
	x := &extCount{f: f, bs: 1024 << u32(24), first: u32(20), blocks: u32(4), bpg: u32(32), ipg: u32(40), isz: 128, firstInode: 11, descSize: 32, attributes: map[uint64]bool{}}
	x.incompat, x.ro = le.Uint32(sb[96:]), le.Uint32(sb[100:])
	free := u32(12)
	if x.incompat&0x80 != 0 {
		x.blocks |= u32(0x150) << 32
		x.descSize, free = uint64(le.Uint16(sb[0xFE:])), free|u32(0x158)<<32
	}
	if u32(76) > 0 {
		x.isz, x.firstInode = uint64(le.Uint16(sb[88:])), u32(84)
	}
	x.groups, x.perDesc = (x.blocks-x.first+x.bpg-1)/x.bpg, x.bs/x.descSize
	x.gd = (x.groups + x.perDesc - 1) / x.perDesc
	x.firstMeta = x.gd
	if x.incompat&0x10 != 0 {
		x.firstMeta = u32(0x104)
		x.gd = min(x.gd, x.firstMeta)
	}
	freeBlocks, freeInodes := x.count()
	if freeBlocks != free || freeInodes != u32(16) {
		x.fault("the superblock has %d blocks and %d inodes free, and %d and %d are", free, u32(16), freeBlocks, freeInodes)
	}
	return x.wrong
}

func (x *extCount) fault(format string, args ...any) {
	if len(x.wrong) < 8 {
		x.wrong = append(x.wrong, fmt.Sprintf(format, args...))
	}
}

func (x *extCount) read(block, n uint64) []byte {
	b := make([]byte, n)
	if _, err := x.f.ReadAt(b, int64(block*x.bs)); err != nil && err != io.EOF {
		x.fault("block %d: %v", block, err)
	}
	return b
}

func (x *extCount) claim(start, count uint64) {
	if start < x.first || start+count > x.blocks {
		x.fault("blocks %d to %d are not on it", start, start+count-1)
		return
	}
	x.claimed = append(x.claimed, run{start, count})
}

// super reports whether the group has a copy of the superblock.
func (x *extCount) super(g uint64) bool {
	if g <= 1 || x.ro&1 == 0 {
		return true
	}
	for _, base := range []uint64{3, 5, 7} {
		n := base
		for n < g {
			n *= base
		}
		if n == g {
			return true
		}
	}
	return false
}

// base claims what lies in the group itself, and gives its descriptor.
func (x *extCount) base(g uint64) []byte {
	at, nr := x.first+g*x.bpg, g/x.perDesc
	own := at
	if x.super(g) {
		x.claim(at, 1)
		own++
	}
	desc := x.first + 1 + nr
	if nr >= x.firstMeta { // then each piece of descriptors lies with its own groups, three times
		head := nr * x.perDesc
		desc = x.first + head*x.bpg
		if x.super(head) {
			desc++
		}
		if g == head || g == head+1 || g == head+x.perDesc-1 {
			x.claim(own, 1)
		}
	} else if x.super(g) {
		x.claim(own, x.gd)
	}
	d := x.read(desc, x.bs)[g%x.perDesc*x.descSize:][:x.descSize]
	x.claim(x.wide(d, 0, 0x20), 1)
	x.claim(x.wide(d, 4, 0x24), 1)
	x.claim(x.wide(d, 8, 0x28), (x.ipg*x.isz+x.bs-1)/x.bs)
	return d
}

func (x *extCount) wide(d []byte, lo, hi int) uint64 {
	n := uint64(binary.LittleEndian.Uint32(d[lo:]))
	if x.descSize >= 64 {
		n |= uint64(binary.LittleEndian.Uint32(d[hi:])) << 32
	}
	return n
}

func (x *extCount) half(d []byte, lo, hi int) uint64 {
	n := uint64(binary.LittleEndian.Uint16(d[lo:]))
	if x.descSize >= 64 {
		n |= uint64(binary.LittleEndian.Uint16(d[hi:])) << 16
	}
	return n
}

// count goes through all groups: inodes first, since they lie anywhere, and then blocks.
func (x *extCount) count() (freeBlocks, freeInodes uint64) {
	descs := make([][]byte, x.groups)
	for g := range x.groups {
		descs[g] = x.base(g)
	}
	for g, d := range descs {
		freeInodes += x.inodes(uint64(g), d)
	}
	slices.SortFunc(x.claimed, func(a, b run) int { return cmp.Compare(a.start, b.start) })
	for i := 1; i < len(x.claimed); i++ {
		if a, b := x.claimed[i-1], x.claimed[i]; a.start+a.count > b.start {
			x.fault("block %d has two owners", b.start)
		}
	}
	next := 0
	for g, d := range descs {
		free := uint64(0)
		next, free = x.bitmap(uint64(g), d, next)
		freeBlocks += free
	}
	return freeBlocks, freeInodes
}

// inodes holds the inodes of a group against its bitmap and counts.
func (x *extCount) inodes(g uint64, d []byte) (free uint64) {
	unused, uninit := x.half(d, 0x1C, 0x32), d[0x12]&1 != 0
	if x.ro&0x410 == 0 { // no checksums of groups: then nothing is left out
		unused, uninit = 0, false
	}
	table, bitmap := []byte(nil), make([]byte, x.bs)
	if !uninit {
		table = x.read(x.wide(d, 8, 0x28), (x.ipg-unused)*x.isz)
		bitmap = x.read(x.wide(d, 4, 0x24), x.bs)
	}
	dirs := uint64(0)
	for i := range x.ipg {
		number, used := g*x.ipg+i+1, g*x.ipg+i+1 < x.firstInode
		if at := i * x.isz; at < uint64(len(table)) {
			n := table[at:][:x.isz]
			mode := binary.LittleEndian.Uint16(n)
			used = used || binary.LittleEndian.Uint16(n[26:]) > 0
			if used && mode != 0 {
				x.owns(number, n, mode)
			} else if used && number == 7 {
				x.owns(number, n, 0x8000)
			}
			if used && mode>>12 == 4 {
				dirs++
			}
		}
		if marked := bitmap[i/8]>>(i%8)&1 == 1; marked != used {
			x.fault("inode %d of group %d: in use %v, marked %v", number, g, used, marked)
		}
		if !used {
			free++
		}
	}
	for i := x.ipg; !uninit && i < 8*x.bs; i++ {
		if bitmap[i/8]>>(i%8)&1 == 0 {
			x.fault("group %d: bit %d of its inodes is behind the last, and free", g, i)
			break
		}
	}
	if said, saidDirs := x.half(d, 0x0E, 0x2E), x.half(d, 0x10, 0x30); said != free || saidDirs != dirs {
		x.fault("group %d says %d free inodes and %d directories, and has %d and %d", g, said, saidDirs, free, dirs)
	}
	return free
}

// owns claims the blocks of an inode, and holds them against its own count.
func (x *extCount) owns(number uint64, n []byte, mode uint16) {
	le := binary.LittleEndian
	flags, said := le.Uint32(n[32:]), uint64(le.Uint32(n[28:]))|uint64(le.Uint16(n[0x74:]))<<32
	if x.ro&8 == 0 {
		said &= 1<<32 - 1
	}
	if flags&0x40000 != 0 {
		said *= x.bs / 512
	}
	total, attr := uint64(0), uint64(le.Uint32(n[104:]))|uint64(le.Uint16(n[0x76:]))<<32
	if attr != 0 {
		total++
		if !x.attributes[attr] { // several may share it
			x.attributes[attr] = true
			x.claim(attr, 1)
		}
	}
	kind, root := mode>>12, n[40:100]
	short := kind == 10 && said == total*x.bs/512
	switch {
	case kind != 4 && kind != 8 && kind != 10 || short || flags&0x10000000 != 0:
	case flags&0x80000 != 0:
		total += x.extents(root)
	default:
		for i := range 15 {
			total += x.mapped(uint64(le.Uint32(root[4*i:])), max(0, i-11))
		}
	}
	if said != total*x.bs/512 {
		x.fault("inode %d says %d sectors, and has %d", number, said, total*x.bs/512)
	}
}

func (x *extCount) extents(node []byte) (total uint64) {
	le := binary.LittleEndian
	if le.Uint16(node) != 0xF30A {
		x.fault("extents without a signature")
		return 0
	}
	for i := range int(le.Uint16(node[2:])) {
		e := node[12+12*i:]
		if le.Uint16(node[6:]) > 0 {
			at := uint64(le.Uint32(e[4:])) | uint64(le.Uint16(e[8:]))<<32
			x.claim(at, 1)
			total += 1 + x.extents(x.read(at, x.bs))
			continue
		}
		n := uint64(le.Uint16(e[4:]))
		if n > 32768 { // not written yet
			n -= 32768
		}
		x.claim(uint64(le.Uint32(e[8:]))|uint64(le.Uint16(e[6:]))<<32, n)
		total += n
	}
	return total
}

// mapped claims a block of the older map, and what lies below it.
func (x *extCount) mapped(at uint64, levels int) (total uint64) {
	if at == 0 {
		return 0
	}
	x.claim(at, 1)
	if levels == 0 {
		return 1
	}
	b := x.read(at, x.bs)
	for i := 0; i < len(b); i += 4 {
		total += x.mapped(uint64(binary.LittleEndian.Uint32(b[i:])), levels-1)
	}
	return total + 1
}

// bitmap holds the blocks of a group against what is claimed, from the next of the claims on.
func (x *extCount) bitmap(g uint64, d []byte, next int) (after int, free uint64) {
	begin := x.first + g*x.bpg
	size := min(x.bpg, x.blocks-begin)
	want := make([]byte, x.bs)
	for i := size; i < 8*x.bs; i++ {
		want[i/8] |= 1 << (i % 8)
	}
	for free = size; next < len(x.claimed) && x.claimed[next].start < begin+size; next++ {
		c := x.claimed[next]
		end := min(c.start+c.count, begin+size)
		for b := max(c.start, begin) - begin; b < end-begin; b++ {
			if want[b/8]>>(b%8)&1 == 0 {
				want[b/8] |= 1 << (b % 8)
				free--
			}
		}
		if c.start+c.count > begin+size { // it goes on in the next group
			break
		}
	}
	if uninit := d[0x12]&2 != 0 && x.ro&0x410 != 0; !uninit {
		got := x.read(x.wide(d, 0, 0x20), x.bs)
		for i := range want {
			if got[i] != want[i] {
				x.fault("group %d: blocks from %d on are in use as %08b, and marked as %08b", g, begin+uint64(8*i), want[i], got[i])
			}
		}
	}
	if said := x.half(d, 0x0C, 0x2C); said != free {
		x.fault("group %d says %d free blocks, and has %d", g, said, free)
	}
	return next, free
}
