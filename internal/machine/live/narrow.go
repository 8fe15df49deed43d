package live

import (
	"errors"
	"io"
	"path/filepath"

	"fundus/core/block"
	"fundus/core/block/file"
	"fundus/core/inventory"
	"fundus/core/scan"
	"fundus/internal/machine"
)

// narrow reads each span through the narrowest node that holds it.
type narrow struct {
	*file.File
	parts []opened
	nodes string // the directory of the nodes
}

type opened struct {
	start, size int64
	dev         *file.File
}

// ReadAt reads piece by piece.
func (n *narrow) ReadAt(p []byte, off int64) (int, error) {
	done := 0
	for done < len(p) {
		dev, at, room := n.at(off + int64(done))
		want := min(int64(len(p)-done), room)
		k, err := dev.ReadAt(p[done:done+int(want)], at)
		done += k
		if err == nil && k == 0 {
			err = io.ErrUnexpectedEOF // fewer bytes than asked come with a reason, always
		}
		if err != nil {
			return done, err
		}
	}
	return done, nil
}

// at is the node for a byte, the place in it, and how far it goes.
func (n *narrow) at(off int64) (dev *file.File, at, room int64) {
	room = max(n.Size()-off, 1)
	for _, p := range n.parts {
		if off >= p.start && off < p.start+p.size {
			return p.dev, off - p.start, p.start + p.size - off
		}
		if p.start > off {
			room = min(room, p.start-off)
		}
	}
	return n.File, off, room
}

// Close closes every node.
func (n *narrow) Close() error {
	errs := []error{n.File.Close()}
	for _, p := range n.parts {
		errs = append(errs, p.dev.Close())
	}
	return errors.Join(errs...)
}

// each carries a span out piece by piece, each piece on its node.
func (n *narrow) each(off, length int64, fn func(dev *file.File, at, done, size int64) error) error {
	for done := int64(0); done < length; {
		dev, at, room := n.at(off + done)
		size := min(length-done, room)
		if err := fn(dev, at, done, size); err != nil {
			return err
		}
		done += size
	}
	return nil
}

// WriteAt writes through the narrowest nodes.
func (n *narrow) WriteAt(p []byte, off int64) (int, error) {
	if err := block.CheckAccess(n, "write", off, int64(len(p))); err != nil {
		return 0, err
	}
	err := n.each(off, int64(len(p)), func(dev *file.File, at, done, size int64) error {
		_, err := dev.WriteAt(p[done:done+size], at)
		return err
	})
	if err != nil {
		return 0, err
	}
	return len(p), nil
}

// WriteZeroes zeroes through the narrowest nodes.
func (n *narrow) WriteZeroes(off, length int64) error {
	if err := block.CheckAccess(n, "zero", off, length); err != nil {
		return err
	}
	return n.each(off, length, func(dev *file.File, at, _, size int64) error { return dev.WriteZeroes(at, size) })
}

// ReadBack reads past the page caches.
func (n *narrow) ReadBack(p []byte, off int64) (direct bool, err error) {
	direct = true
	err = n.each(off, int64(len(p)), func(dev *file.File, at, done, size int64) error {
		ok, err := dev.ReadBack(p[done:done+size], at)
		direct = direct && ok
		return err
	})
	return direct, err
}

// LetGoOfPartitions closes the partitions' nodes; from then on the disk's serves
// them.
func (n *narrow) LetGoOfPartitions() error {
	var errs []error
	for _, p := range n.parts {
		errs = append(errs, p.dev.Close())
	}
	n.parts = nil
	return errors.Join(errs...)
}

// TakeUp opens a new partition's node for writing, as nobody else's: udev leaves it
// alone while the disk is locked.
func (n *narrow) TakeUp(a machine.Action) error {
	_, path := scan.Name(inventory.Node{Name: a.Device, Path: filepath.Join(n.nodes, a.Device)}, a.Number)
	part, err := file.OpenExclusive(path, n.Geometry())
	if err != nil {
		return err
	}
	n.parts = append(n.parts, opened{int64(a.Start), min(int64(a.Size), part.Size()), part})
	return nil
}

// Sync syncs every node.
func (n *narrow) Sync() error {
	errs := []error{n.File.Sync()}
	for _, p := range n.parts {
		errs = append(errs, p.dev.Sync())
	}
	return errors.Join(errs...)
}
