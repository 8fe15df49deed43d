// Package swap recognises and makes swap areas, and writes their labels.
//
// Source: include/linux/swap.h (union swap_header) of Linux 6.1: the signature
// ends the first page, whose size is the writer's; the numbers behind byte
// 1024 have the writer's byte order.
package swap

import (
	"encoding/binary"
	"fmt"
	"strings"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/quantity"
)

// Offsets in the first page, in bytes.
//
// The signature ends the first page, whatever a page is on the machine that made it, so
// that a swap area of one machine may be none to another with larger pages. The header lies
// behind a first KiB that is left to boot loaders.
const (
	magic     = "SWAPSPACE2"
	asleep    = "S1SUSPEND\x00" // in its place: an image of the memory (kernel/power/swap.c)
	versionAt = 1024            // u32, 1
	lastPage  = 1028            // u32
	uuidAt    = 1036            // 16 bytes
	labelAt   = 1052            // 16 bytes
	headerEnd = 1068
)

// Probe recognises a swap area of any page size; nil where there is none.
func Probe(dev block.Device) (*fs.Content, error) {
	for page := int64(4096); page <= 65536 && page <= dev.Size(); page *= 2 {
		sign, err := block.ReadSized(dev, page-int64(len(magic)), int64(len(magic)), 64)
		if err != nil {
			return nil, err
		}
		if string(sign) != magic && string(sign) != asleep {
			continue
		}
		b, err := block.ReadSized(dev, 0, headerEnd, headerEnd)
		if err != nil {
			return nil, err
		}
		c := describe(b, page)
		if string(sign) == asleep && c.State == fs.Clean {
			c.State = fs.Asleep
			c.Facts = append(c.Facts, fs.Fact{
				Name:  "asleep",
				Value: "it holds the memory of a machine that hibernates: what is changed now is overwritten when that wakes up",
			})
		}
		return c, nil
	}
	return nil, nil
}

// An area of the other byte order is shown with its figures, though no kernel of this
// machine takes it.
func describe(b []byte, page int64) *fs.Content {
	var order binary.ByteOrder = binary.LittleEndian
	if order.Uint32(b[versionAt:]) != 1 {
		order = binary.BigEndian
	}
	c := &fs.Content{Kind: "swap", Class: fs.Swap, State: fs.Clean, Grows: true, BlockSize: quantity.Bytes(page),
		Signatures: []extent.Span{{Start: uint64(page) - uint64(len(magic)), Count: uint64(len(magic))}}}
	if order.Uint32(b[versionAt:]) != 1 {
		c.State = fs.Damaged
		return c
	}
	pages := quantity.Count(order.Uint32(b[lastPage:])) + 1
	c.Size, _ = pages.Times(c.BlockSize) // below 2^48
	if id := uuid.UUID(b[uuidAt : uuidAt+16]); id != uuid.Nil {
		c.UUID = id.String()
	}
	c.Label, _, _ = strings.Cut(string(b[labelAt:labelAt+16]), "\x00")
	c.Facts = []fs.Fact{{Name: "shape", Value: fmt.Sprintf("%d pages × %d bytes = %d bytes (%v)", pages, page, c.Size, c.Size)}}
	return c
}
