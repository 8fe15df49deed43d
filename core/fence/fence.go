// Package fence makes and recognises the block that stands in place of a
// target's signatures while a deed is under way. Nothing mounts a fenced
// device, and whoever looks at its bytes reads which deed to recover:
//
//	  0  text, lines of "key: value", the first "FUNDUS FENCE 1"
//	504  CRC-32 (IEEE) of bytes 0 to 503, little-endian
//	508  four zero bytes, so that it never looks like a boot sector
//
// The format is Fundus's own; the 1 in the first line is its version.
package fence

import (
	"bytes"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"strings"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/extent"
	"fundus/core/fs"
)

// Size of a fence in bytes; on larger sectors the rest is zeros.
const Size = 512

const (
	first = "FUNDUS FENCE 1\n"
	crcAt = 504
	// longest is the bytes of one value. Four that long would not fit: the deed and its command,
	// which are short, come first, and of a device and a directory that are both so long the end
	// of the directory is left out.
	longest = 160
)

// Places lists the stretches of a device, in bytes, where a fence is looked for: wherever a
// kind has a mark that may be fenced first. Beyond the first ones are the ends of pages of
// swap, and the superblocks of kinds that leave room for boot loaders.
func Places() []extent.Span {
	const k = 1 << 10
	return []extent.Span{
		{Start: 0, Count: 8 * k},
		{Start: 12 * k, Count: 4 * k},
		{Start: 28 * k, Count: 8 * k},
		{Start: 60 * k, Count: 8 * k},
	}
}

// Fence says whose it is and what to do.
type Fence struct {
	Deed    string // its identifier
	Store   string // the state directory that holds the deed
	Device  string // identity of the device
	Command string // what completes the deed or takes it back
}

// ErrNone says that a block is no fence.
var ErrNone = errors.New("no fence")

// Encode gives the block. Values that are too long are cut in the middle.
func Encode(f Fence) []byte {
	b := make([]byte, Size)
	n := copy(b, first)
	for _, line := range [][2]string{{"deed", f.Deed}, {"command", f.Command}, {"device", f.Device}, {"store", f.Store}} {
		value := strings.Map(dropControl, line[1])
		if len(value) > longest {
			value = value[:longest/2] + "..." + value[len(value)-longest/2+3:]
		}
		n += copy(b[n:crcAt], line[0]+": "+value+"\n")
	}
	binary.LittleEndian.PutUint32(b[crcAt:], crc32.ChecksumIEEE(b[:crcAt]))
	return b
}

func dropControl(r rune) rune {
	if r < 0x20 || r == 0x7F {
		return -1
	}
	return r
}

// Decode reads a block of at least 512 bytes; ErrNone where it is none, and
// field.ErrChecksum where it was one.
func Decode(b []byte) (*Fence, error) {
	if len(b) < Size || !bytes.HasPrefix(b, []byte(first)) {
		return nil, ErrNone
	}
	if want, got := binary.LittleEndian.Uint32(b[crcAt:]), crc32.ChecksumIEEE(b[:crcAt]); want != got {
		return nil, &field.Error{Struct: "fence", Field: "checksum", Off: crcAt, Got: want, Err: field.ErrChecksum}
	}
	f := &Fence{}
	for line := range strings.SplitSeq(strings.TrimRight(string(b[len(first):crcAt]), "\x00"), "\n") {
		key, value, _ := strings.Cut(line, ": ")
		switch key {
		case "deed":
			f.Deed = value
		case "store":
			f.Store = value
		case "device":
			f.Device = value
		case "command":
			f.Command = value
		}
	}
	return f, nil
}

// Find looks for a fence in the places where one may be. It gives nil where there is none.
func Find(dev block.Device) (*Fence, int64, error) {
	for _, p := range Places() {
		n := min(dev.Size()-int64(p.Start), int64(p.Count))
		if n < Size {
			break
		}
		b, err := block.ReadSized(dev, int64(p.Start), n, int64(p.Count))
		if err != nil {
			return nil, 0, err
		}
		for at := 0; at+Size <= len(b); at += Size {
			if f, err := Decode(b[at:]); err == nil {
				return f, int64(p.Start) + int64(at), nil
			}
		}
	}
	return nil, 0, nil
}

// Fields are the fence's text and its checksum.
func Fields(dev block.Device) ([]field.Structure, error) {
	_, at, err := Find(dev)
	if err != nil {
		return nil, err
	}
	s, err := field.ReadStructure(dev, "fence", at, binary.LittleEndian, []field.Spec{
		field.Text(crcAt, "text"), field.Hex(4, "checksum"), field.Bytes(4, "zeros")})
	return []field.Structure{s}, err
}

// Probe recognises a fenced device.
func Probe(dev block.Device) (*fs.Content, error) {
	f, at, err := Find(dev)
	if f == nil || err != nil {
		return nil, err
	}
	return &fs.Content{Kind: "fenced", Class: fs.Fence, UUID: f.Deed, Signatures: []extent.Span{{Start: uint64(at), Count: Size}},
		Facts: []fs.Fact{
			{Name: "deed", Value: f.Deed},
			{Name: "store", Value: f.Store},
			{Name: "device", Value: f.Device},
			{Name: "command", Value: f.Command},
		}}, nil
}
