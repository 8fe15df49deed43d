package swap

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/progress"
	"fundus/core/quantity"
)

// Limits of an area.
const (
	cleared   = 64 << 10 // bytes at the beginning: the largest page, in which other signatures lie
	leastPage = 4096
	mostPage  = 65536
	fewest    = 10        // pages: the kernel's own floor
	mostPages = 1<<32 - 1 // the last page is a number of 32 bits
	labelSize = 16
)

// Options is what a new area is made with.
type Options struct {
	Page  quantity.Bytes // of the kernel that will use it
	For   int64          // the reader, as its setting has it
	Label string
	UUID  [16]byte
	Sink  progress.Sink
}

// Layout is a new area in figures.
type Layout struct {
	Page  quantity.Bytes
	Pages uint64
	Left  quantity.Bytes // of the device that is not used
}

// Plan works an area out. Errors: fs.ErrTooSmall with the figures, fs.ErrLabel.
func Plan(size quantity.Bytes, o Options) (Layout, error) {
	if _, err := Fit(o.Label); err != nil {
		return Layout{}, err
	}
	if size < fewest*o.Page || size < cleared {
		return Layout{}, fmt.Errorf("%w: swap takes %d pages of %v and %v at least, and this is %v", fs.ErrTooSmall,
			fewest, o.Page, quantity.Bytes(cleared), size)
	}
	l := Layout{Page: o.Page, Pages: min(uint64(size/o.Page), mostPages)}
	l.Left = size - quantity.Bytes(l.Pages)*o.Page
	return l, nil
}

// Header is the first page of a new area, for a file that reads as zeros behind it. Errors: as
// Plan.
func Header(size quantity.Bytes, o Options) ([]byte, Layout, error) {
	l, err := Plan(size, o)
	if err != nil {
		return nil, l, err
	}
	b := make([]byte, o.Page)
	copy(b[versionAt:], header(l, o))
	copy(b[len(b)-len(magic):], magic)
	return b, l, nil
}

// header is what of the first page stands behind its first KiB.
func header(l Layout, o Options) []byte {
	b := make([]byte, headerEnd-versionAt)
	order := binary.NativeEndian
	order.PutUint32(b, 1)
	order.PutUint32(b[lastPage-versionAt:], uint32(l.Pages-1))
	copy(b[uuidAt-versionAt:], o.UUID[:])
	copy(b[labelAt-versionAt:], o.Label)
	return b
}

// Make writes a new area: the beginning is cleared, the header written, and the signature
// that makes an area of it last, behind a sync of its own.
func Make(ctx context.Context, dev block.Device, o Options) (Layout, error) {
	l, err := Plan(quantity.Bytes(dev.Size()), o)
	if err != nil {
		return l, err
	}
	if err := errors.Join(ctx.Err(), dev.WriteZeroes(0, cleared)); err != nil {
		return l, err
	}
	o.Sink.Send("first pages", cleared, cleared)
	if err := errors.Join(ctx.Err(), block.WriteBytes(dev, header(l, o), versionAt), dev.Sync()); err != nil {
		return l, err
	}
	return l, errors.Join(block.WriteBytes(dev, []byte(magic), int64(o.Page)-int64(len(magic))), dev.Sync())
}

// Fit gives a label as it is stored, which is as it was said. Errors: fs.ErrLabel for one that has no
// place.
func Fit(label string) (string, error) {
	if len(label) > labelSize || strings.ContainsRune(label, 0) {
		return "", fmt.Errorf("%w: %q has %d bytes, swap has space for %d", fs.ErrLabel, label, len(label), labelSize)
	}
	return label, nil
}

// SetLabel writes the label of an area that is not in use.
func SetLabel(dev block.Device, label string) error {
	if _, err := Fit(label); err != nil {
		return err
	}
	b := make([]byte, labelSize)
	copy(b, label)
	return errors.Join(block.WriteBytes(dev, b, labelAt), dev.Sync())
}

// SetUUID gives an area that is not in use another identifier.
func SetUUID(dev block.Device, id [16]byte) error {
	return errors.Join(block.WriteBytes(dev, id[:], uuidAt), dev.Sync())
}
