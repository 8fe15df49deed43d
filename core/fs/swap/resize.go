package swap

import (
	"encoding/binary"
	"errors"
	"fmt"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/quantity"
)

// Reach is the size that an area can have of at most so many bytes. Errors: fs.ErrTooSmall,
// and fs.ErrUnsupported for one that holds the memory of a machine which sleeps, has bad
// pages, or was made by a machine of another byte order.
func Reach(dev block.Device, to quantity.Bytes) (quantity.Bytes, error) {
	c, err := Probe(dev)
	if err != nil {
		return 0, err
	}
	if c == nil || c.State != fs.Clean {
		return 0, fmt.Errorf("%w: it is no swap area in order", fs.ErrUnsupported)
	}
	b, err := block.ReadSized(dev, versionAt, 12, 12)
	if err != nil {
		return 0, err
	}
	if order := binary.NativeEndian; order.Uint32(b) != 1 || order.Uint32(b[8:]) != 0 {
		return 0, fmt.Errorf("%w: it has bad pages, or another machine's byte order", fs.ErrUnsupported)
	}
	l, err := Plan(to, Options{Page: c.BlockSize})
	return quantity.Bytes(l.Pages) * l.Page, err
}

// Resize gives an area that is not in use another size: its header says what its last page is,
// and nothing else changes. Errors: as Reach.
func Resize(dev block.Device, to quantity.Bytes) (quantity.Bytes, error) {
	size, err := Reach(dev, to)
	if err != nil {
		return 0, err
	}
	c, err := Probe(dev)
	if err != nil {
		return 0, err
	}
	last := binary.NativeEndian.AppendUint32(nil, uint32(size/c.BlockSize-1))
	return size, errors.Join(block.WriteBytes(dev, last, lastPage), dev.Sync())
}
