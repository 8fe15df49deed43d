package ext

import (
	"fmt"
	"strings"
	"time"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/quantity"
)

// Fit gives a label as it is stored, which is as it was said. Errors: fs.ErrLabel for one that has no
// place.
func Fit(label string) (string, error) {
	if len(label) > 16 || strings.ContainsRune(label, 0) {
		return "", fmt.Errorf("%w: %q has %d bytes, ext4 takes at most 16", fs.ErrLabel, label, len(label))
	}
	return label, nil
}

// SetLabel writes the label into the primary superblock and into every backup
// that belongs to it. It refuses a file system with unknown features, one that
// needs its journal replayed, and one that reaches past the device.
func SetLabel(dev block.Device, label string) error {
	if _, err := Fit(label); err != nil {
		return err
	}
	s, err := writable(dev)
	if err != nil {
		return err
	}
	return s.relabel(dev, label)
}

// MarkLabelled changes the label as the kernel does for a mounted file system, whose journal
// is in use. It is for simulated machines.
func MarkLabelled(dev block.Device, label string) error {
	s, err := Read(dev)
	if err != nil {
		return err
	}
	return s.relabel(dev, label)
}

func (s *Superblock) relabel(dev block.Device, label string) error {
	return s.everywhere(dev, func(d *super) {
		d.Label = [16]byte{}
		copy(d.Label[:], label)
	})
}

// What is not understood is not written to: a feature that is unknown may have another
// meaning for the very bytes. A journal that needs its replay holds a newer superblock,
// which would come back over the label at the next mount.
func writable(dev block.Device) (*Superblock, error) {
	s, err := Read(dev)
	if err != nil {
		return nil, err
	}
	if unknown := s.Unknown(); len(unknown) > 0 {
		return nil, fmt.Errorf("%w: %s", fs.ErrUnsupported, strings.Join(unknown, ", "))
	}
	if s.Incompat&incompatRecover != 0 {
		return nil, fmt.Errorf("%s: mount and unmount it once, so that the kernel replays the journal", fs.Recovery)
	}
	if s.Size() > quantity.Bytes(dev.Size()) {
		return nil, fmt.Errorf("the file system has %d bytes, its device %d", s.Size(), dev.Size())
	}
	return s, nil
}

// MarkMounted changes the superblock as the kernel does on a mount for
// writing: one mount more, the time, the place, and the journal in use. It is
// for simulated machines.
func MarkMounted(dev block.Device, at time.Time, where string) error {
	s, err := Read(dev)
	if err != nil {
		return err
	}
	s.disk.MountCount++
	if s.Compat&compatJournal != 0 {
		s.disk.Incompat |= incompatRecover
	} else {
		s.disk.State &^= 1
	}
	s.disk.LastMounted = [64]byte{}
	copy(s.disk.LastMounted[:63], where)
	s.disk.MountTime, s.disk.MountTimeHi = stamp(at)
	return s.store(dev, at)
}

// MarkUnmounted changes the superblock as the kernel does on unmounting.
func MarkUnmounted(dev block.Device, at time.Time) error {
	s, err := Read(dev)
	if err != nil {
		return err
	}
	s.disk.Incompat &^= incompatRecover
	s.disk.State |= 1
	return s.store(dev, at)
}

// stamp is a time as the superblock has it: its seconds in 40 bits.
func stamp(at time.Time) (lo uint32, hi uint8) { return uint32(at.Unix()), uint8(at.Unix() >> 32) }

func (s *Superblock) store(dev block.Device, at time.Time) error {
	s.disk.WriteTime, s.disk.WriteTimeHi = stamp(at)
	if err := block.WriteBytes(dev, s.sealed(), superOffset); err != nil {
		return err
	}
	return dev.Sync()
}
