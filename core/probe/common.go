package probe

import (
	"encoding/binary"
	"fmt"
	"slices"
	"strings"
	"unicode/utf16"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/quantity"
)

// look is the bytes of one structure. Reading past their end gives zeros.
type look struct {
	b     []byte
	order binary.ByteOrder
}

// most is the largest structure that a probe reads.
const most = 128 << 10

// read gives n bytes from off; empty where the device ends before that.
func read(dev block.Device, off, n int64, order binary.ByteOrder) (look, error) {
	if off < 0 || n < 0 || off > dev.Size()-n {
		return look{nil, order}, nil
	}
	b, err := block.ReadSized(dev, off, n, most)
	return look{b, order}, err
}

// raw gives n bytes at off, zeros behind the end.
func (l look) raw(off, n int) []byte {
	out := make([]byte, n)
	if off >= 0 && off < len(l.b) {
		copy(out, l.b[off:])
	}
	return out
}

func (l look) u8(off int) uint8   { return l.raw(off, 1)[0] }
func (l look) u16(off int) uint16 { return l.order.Uint16(l.raw(off, 2)) }
func (l look) u32(off int) uint32 { return l.order.Uint32(l.raw(off, 4)) }
func (l look) u64(off int) uint64 { return l.order.Uint64(l.raw(off, 8)) }

// has reports whether the bytes at off are those of the magic.
func (l look) has(off int, magic string) bool {
	return len(l.b) >= off+len(magic) && string(l.b[off:off+len(magic)]) == magic
}

// text is a text of at most n bytes that a zero byte ends.
func (l look) text(off, n int) string {
	s, _, _ := strings.Cut(string(l.raw(off, n)), "\x00")
	return s
}

// wide is a text of UTF-16 units that a zero unit ends.
func (l look) wide(off, units int, order binary.ByteOrder) string {
	var list []uint16
	b := l.raw(off, 2*units)
	for i := range units {
		u := order.Uint16(b[2*i:])
		if u == 0 {
			break
		}
		list = append(list, u)
	}
	return string(utf16.Decode(list))
}

// uuid is an identifier in its usual form; empty where it is nil.
func (l look) uuid(off int) string {
	id := uuid.UUID(l.raw(off, 16))
	if id == uuid.Nil {
		return ""
	}
	return id.String()
}

// times multiplies counts that a device recorded; 0 where no device is so large.
func times(count, size uint64) quantity.Bytes {
	const largest = 1 << 62
	if size == 0 || count > largest/size {
		return 0
	}
	return quantity.Bytes(count * size)
}

// power is 2 to the exponent; 0 where no block is so large.
func power(exponent uint64) uint64 {
	if exponent > 30 {
		return 0
	}
	return 1 << exponent
}

// powerOfTwo reports whether n is one, between the limits.
func powerOfTwo(n, least, largest uint64) bool {
	return n >= least && n <= largest && n&(n-1) == 0
}

// found begins what a probe says: kind and class, and the place of the magic.
func found(kind string, class fs.Class, at int64, magic int) *fs.Content {
	return &fs.Content{Kind: kind, Class: class, State: fs.NotRecorded, Signatures: []extent.Span{{Start: uint64(at), Count: uint64(magic)}}}
}

// damaged marks a structure that breaks a rule behind its magic.
func damaged(c *fs.Content, why string, args ...any) *fs.Content {
	c.State = fs.Damaged
	c.Facts = []fs.Fact{{Name: "damage", Value: fmt.Sprintf(why, args...)}}
	return c
}

// sized fills in the figures of blocks, with their arithmetic; nothing is used
// where free is more than there is.
func sized(c *fs.Content, blocks, block uint64) {
	c.BlockSize, c.Size = quantity.Bytes(block), times(blocks, block)
	fact(c, "shape", "%d blocks × %d bytes = %d bytes (%v)", blocks, block, c.Size, c.Size)
}

func usedBlocks(c *fs.Content, free uint64) {
	total := uint64(c.Size) / max(uint64(c.BlockSize), 1)
	if free > total {
		return
	}
	c.Used, c.HasUsage = times(total-free, uint64(c.BlockSize)), true
	fact(c, "space", "%v free: %d blocks × %d bytes, as recorded", times(free, uint64(c.BlockSize)), free, c.BlockSize)
}

// fact adds a figure. Of what answers one question one line is made, in the order in which it
// was found out.
func fact(c *fs.Content, name, format string, args ...any) {
	value := fmt.Sprintf(format, args...)
	if at := slices.IndexFunc(c.Facts, func(f fs.Fact) bool { return f.Name == name }); at >= 0 {
		c.Facts[at].Value += "; " + value
		return
	}
	c.Facts = append(c.Facts, fs.Fact{Name: name, Value: value})
}

var (
	le = binary.LittleEndian
	be = binary.BigEndian
)

// structure reads the one structure that most kinds have.
func structure(dev block.Device, name string, at int64, order binary.ByteOrder, specs []field.Spec) ([]field.Structure, error) {
	s, err := field.ReadStructure(dev, name, at, order, specs)
	return []field.Structure{s}, err
}
