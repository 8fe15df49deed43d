package live

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"

	"golang.org/x/sys/unix"

	"fundus/core/block"
	"fundus/core/block/file"
	"fundus/internal/machine"
	"fundus/internal/machine/image"
)

// Claim takes the BSD lock of each disk, and opens exclusively what changes its
// content: a partition through its own node, the whole disk where it is the
// target. The kernel refuses that while anybody uses it, in whatever namespace;
// the rules say why, as far as can be seen from here.
func (m *Machine) Claim(ctx context.Context, targets []machine.Target) (*machine.Claim, error) {
	v, err := m.Inventory(ctx)
	if err != nil {
		return nil, err
	}
	return machine.ClaimEach(v, targets, func(disk string) (block.Device, error) {
		if slices.Contains(m.images, disk) {
			return image.Claim(disk, block.DefaultGeometry)
		}
		return m.claim(disk, targets)
	})
}

func (m *Machine) claim(disk string, targets []machine.Target) (block.Device, error) {
	d, err := m.listed(disk)
	if err != nil {
		return nil, err
	}
	whole := slices.ContainsFunc(targets, func(t machine.Target) bool {
		return t.Disk == disk && t.Content && t.Start == 0 && t.Size == d.node.Size
	})
	f, err := openFor(d.node.Path, d.node.Geometry, whole)
	if err != nil {
		return nil, claimError(disk, err)
	}
	n := &narrow{File: f}
	if err := f.Lock(); err != nil {
		return nil, errors.Join(claimError(disk, err), n.Close())
	}
	for _, p := range d.parts {
		changes := slices.ContainsFunc(targets, func(t machine.Target) bool {
			return t.Disk == disk && t.Content && int64(t.Start) < p.start+p.size && p.start < int64(t.Start+t.Size)
		})
		if !changes || whole || !fits(p, f.Size()) {
			continue
		}
		part, err := openFor(filepath.Join(m.at.dev, p.name), d.node.Geometry, true)
		if err != nil {
			return nil, errors.Join(claimError(p.name, err), n.Close())
		}
		n.parts = append(n.parts, opened{p.start, min(p.size, part.Size()), part})
	}
	return n, nil
}

func openFor(path string, geo block.Geometry, exclusive bool) (*file.File, error) {
	if exclusive {
		return file.OpenExclusive(path, geo)
	}
	return file.Open(path, true, geo)
}

func claimError(thing string, err error) error {
	switch {
	case errors.Is(err, file.ErrLocked):
		return &machine.Refusal{Rule: machine.RuleMounted, Thing: thing, Text: "another process has locked it", Next: "wait for it to end, then run the command again"}
	case errors.Is(err, unix.EBUSY):
		return &machine.Refusal{Rule: machine.RuleMounted, Thing: thing, Text: "the kernel says that it is in use: mounted (perhaps in another namespace), swap, or part of another device", Next: "fundus survey shows what can be seen from here"}
	case errors.Is(err, unix.EACCES), errors.Is(err, unix.EPERM):
		return &machine.Refusal{Rule: machine.RuleReadOnly, Thing: thing, Text: "you may not write to it", Next: "run as root"}
	case errors.Is(err, unix.EROFS):
		return &machine.Refusal{Rule: machine.RuleReadOnly, Thing: thing, Text: "the medium is read-only", Next: "it may have a switch for that"}
	}
	return fmt.Errorf("%s: %w", thing, err)
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

// Sync syncs every node.
func (n *narrow) Sync() error {
	errs := []error{n.File.Sync()}
	for _, p := range n.parts {
		errs = append(errs, p.dev.Sync())
	}
	return errors.Join(errs...)
}
