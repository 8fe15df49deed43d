package bench

import (
	"fmt"
	"os"

	"fundus/core/block"
	"fundus/core/quantity"
)

// ResizeDisk gives a disk another size, as the store of a virtual disk does. Like a
// kernel, the bench goes on with the size that it knows until it is told to ask for
// it again, or boots; what no longer exists cannot be read at once.
func (b *Bench) ResizeDisk(name, size string) error {
	d, err := b.disk(name)
	if err != nil {
		return err
	}
	was, err := d.bytes()
	if err != nil {
		return err
	}
	changed := *d
	changed.Size = size
	if err := changed.check(); err != nil {
		return err
	}
	now, err := changed.bytes()
	if err != nil {
		return err
	}
	k, err := b.running()
	if err != nil {
		return err
	}
	if _, told := k.Sizes[name]; !told && now > was {
		k.Sizes = map[string]quantity.Bytes{}
		k.Sizes[name] = was
	}
	if k.Sizes[name] >= now {
		delete(k.Sizes, name)
	}
	if err := os.Truncate(b.imagePath(d), int64(now)); err != nil {
		return err
	}
	*d = changed
	if err := b.save(); err != nil {
		return err
	}
	return b.store(k)
}

// known is the disk as far as the kernel knows that it goes.
func (b *Bench) known(name string, dev block.Device) (block.Device, error) {
	k, err := b.kernel()
	if err != nil {
		return nil, err
	}
	size, less := k.Sizes[name]
	if !less || int64(size) > dev.Size() {
		return dev, nil
	}
	part, err := block.NewSlice(dev, 0, int64(size))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return &shorter{part, dev}, nil
}

// shorter is the beginning of a disk; closing it closes the disk.
type shorter struct {
	*block.Slice
	whole block.Device
}

// Close closes the disk.
func (s *shorter) Close() error { return s.whole.Close() }
