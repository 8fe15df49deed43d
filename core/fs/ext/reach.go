package ext

import (
	"errors"
	"fmt"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/quantity"
)

// shape is the size of a file system, and where its descriptors lie: those of the first groups
// behind each copy of the superblock, with blocks kept for more of them; those of the groups
// from a meta group on in that meta group itself.
type shape struct {
	blocks    uint64
	groups    uint64
	desc      uint64 // blocks of descriptors behind each copy
	reserved  uint64 // blocks kept behind those, in the resize inode
	meta      bool   // there are meta groups
	firstMeta uint64 // the first of them
	resize    bool   // there is a resize inode
}

// shape is that of the file system as it is.
func (s *Superblock) shape() shape {
	g := shape{
		blocks:   uint64(s.Blocks),
		groups:   s.Groups(),
		reserved: uint64(s.disk.ReservedGDT),
		meta:     s.Incompat&incompatMetaBG != 0,
		resize:   s.Compat&compatResizeInode != 0,
	}
	g.desc = s.descBlocks(g.groups)
	if g.meta {
		g.firstMeta = uint64(s.disk.FirstMetaGroup)
		g.desc = min(g.desc, g.firstMeta)
	}
	return g
}

// perDesc is how many descriptors fill a block.
func (s *Superblock) perDesc() uint64 {
	return max(1, uint64(s.BlockSize)/uint64(s.descriptorSize()))
}

func (s *Superblock) descBlocks(groups uint64) uint64 {
	return (groups + s.perDesc() - 1) / s.perDesc()
}

func (s *Superblock) groupOf(b uint64) uint64 { return (b - s.FirstData) / uint64(s.BlocksPerGroup) }

func (s *Superblock) groupStart(g uint64) uint64 { return s.FirstData + g*uint64(s.BlocksPerGroup) }

// hasCopy reports whether a group keeps a copy of the superblock.
func (s *Superblock) hasCopy(g uint64) bool {
	if g <= 1 || s.RO&roSparseSuper == 0 {
		return true
	}
	for _, base := range []uint64{3, 5, 7} {
		power := base
		for power < g {
			power *= base
		}
		if power == g {
			return true
		}
	}
	return false
}

// head is how many blocks a group has by rights at its beginning: a copy of the superblock,
// descriptors, and what is kept for more.
func (s *Superblock) head(f shape, g uint64) (n uint64) {
	copied := s.hasCopy(g)
	if !f.meta || g/s.perDesc() < f.firstMeta {
		if copied {
			n = 1 + f.desc + f.reserved
		}
		return n
	}
	if copied {
		n++
	}
	if at := g % s.perDesc(); at <= 1 || at == s.perDesc()-1 {
		n++
	}
	return n
}

// tableBlocks is how many blocks a table of inodes has.
func (s *Superblock) tableBlocks() uint64 {
	perBlock := uint64(s.BlockSize / s.InodeSize)
	return (uint64(s.InodesPerGroup) + perBlock - 1) / perBlock
}

// ErrGrow is a growth that the file system, or the kernel, does not take part in.
var ErrGrow = errors.New("it cannot be made larger")

// reach is the shape that a growth to at most so many blocks ends in, by the rule of the
// kernel: a last group that has no room for its own metadata is left out; where no blocks are
// left for descriptors, those of further groups lie in meta groups, and the resize inode goes.
//
// Source: ext4_resize_fs in fs/ext4/resize.c of Linux 6.1.
func (s *Superblock) reach(want uint64) (shape, error) {
	f := s.shape()
	if s.Incompat&incompat64Bit == 0 {
		want = min(want, 1<<32-1) // the kernel does not look, and counts wrongly then
	}
	n, then := want, uint64(0)
	for n != f.blocks {
		if n < f.blocks {
			return f, fmt.Errorf("%w by so little: its last group would have no space for its own metadata; %v would do",
				ErrGrow, s.least(f))
		}
		last := s.groupOf(n - 1)
		if last >= (1<<32-1)/uint64(s.InodesPerGroup) {
			return f, fmt.Errorf("%w so far: %d groups of %d inodes would have more inodes than there are numbers",
				ErrGrow, last+1, s.InodesPerGroup)
		}
		need, have := s.descBlocks(last+1), s.descBlocks(f.groups)
		if f.resize && need > have+f.reserved { // first as far as there are blocks for descriptors
			then, need = n, have+f.reserved
			last = need*s.perDesc() - 1
			n = s.groupStart(last + 1)
		}
		if !f.resize && !f.meta || n == f.blocks {
			f.meta, f.resize, f.firstMeta, f.desc = true, false, have, have
			if then > 0 {
				n, then = then, 0
				continue
			}
		}
		if s.groupStart(last)+s.head(f, last)+2+s.tableBlocks()+1 >= n {
			n, then = s.groupStart(last), 0
			continue
		}
		if !f.meta {
			f.reserved -= min(f.reserved, need-have)
			f.desc = need
		}
		if f.blocks, f.groups = n, last+1; then == 0 {
			break
		}
		n, then = then, 0
	}
	if s.RO&roSparseSuper == 0 && s.descBlocks(f.groups) != s.descBlocks(s.Groups()) {
		return f, fmt.Errorf("%w so far: with a copy of the superblock in every group no block of descriptors is added", ErrGrow)
	}
	return f, nil
}

// least is the smallest size beyond the present one that the rule allows.
func (s *Superblock) least(f shape) quantity.Bytes {
	last := f.groups - 1
	n := max(s.groupStart(last)+s.head(f, last)+2+s.tableBlocks()+2, f.blocks+1)
	return quantity.Bytes(n) * s.BlockSize
}

// Reach is the size that the kernel makes of a mounted file system which is to have at most so
// many bytes: what it has where nothing can be added. It says beforehand what the kernel would
// refuse. Errors: ErrGrow, fs.ErrUnsupported.
func (s *Superblock) Reach(to quantity.Bytes) (quantity.Bytes, error) {
	if err := s.growable(); err != nil {
		return 0, err
	}
	f, err := s.reach(uint64(to / s.BlockSize))
	return quantity.Bytes(f.blocks) * s.BlockSize, err
}

// Reach is the size that a file system on the device would have of at most so many bytes.
// Errors: as those of the superblock, and of Superblock.Reach.
func Reach(dev block.Device, to quantity.Bytes) (quantity.Bytes, error) {
	s, err := Read(dev)
	if err != nil {
		return 0, err
	}
	return s.Reach(to)
}

// growable refuses what neither the kernel nor Fundus makes larger.
func (s *Superblock) growable() error {
	const sparse2 = 0x200
	switch {
	case s.Incompat&(incompatJournalDev|incompatMMP) != 0 || s.RO&roBigalloc != 0 || s.Compat&sparse2 != 0:
		return fmt.Errorf("%w: clusters, two copies of the superblock, a guard against two mounts, or a journal of another",
			fs.ErrUnsupported)
	case s.FileState() == fs.Errors:
		return fmt.Errorf("%w: errors are recorded in it; it is to be checked first", ErrGrow)
	case s.Compat&compatResizeInode == 0 && s.disk.ReservedGDT > 0:
		return fmt.Errorf("%w: blocks are kept for descriptors, and no inode has them", ErrGrow)
	case s.Compat&compatResizeInode != 0 && s.Incompat&incompatMetaBG != 0:
		return fmt.Errorf("%w: it has a resize inode and meta groups at once", ErrGrow)
	}
	return nil
}
