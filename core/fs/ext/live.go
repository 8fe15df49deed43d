package ext

import (
	"context"
	"encoding/binary"
	"fmt"

	"fundus/core/block"
	"fundus/core/quantity"
)

// ReachLive is the size that the kernel makes of a mounted file system: Reach, unless the
// journal is too small for it. Adding a group is one transaction, which changes every block
// that is kept for descriptors, and has at most a quarter of the journal.
//
// Source: ext4_flex_group_add in fs/ext4/resize.c, start_this_handle in fs/jbd2/transaction.c.
func ReachLive(dev block.Device, to quantity.Bytes) (quantity.Bytes, error) {
	s, err := Read(dev)
	if err != nil {
		return 0, err
	}
	size, err := s.Reach(to)
	if err != nil || size == s.Size() || s.Compat&compatJournal == 0 || s.disk.JournalInode == 0 {
		return size, err
	}
	flex := uint64(1)
	if s.Incompat&incompatFlexBG != 0 && s.disk.LogFlex < 32 {
		flex = 1 << s.disk.LogFlex
	}
	need := 3 + 1 + (flex+s.perDesc()-1)/s.perDesc() + uint64(s.disk.ReservedGDT)
	n, err := s.inode(dev, uint64(s.disk.JournalInode))
	if err != nil {
		return 0, err
	}
	blocks := wide(n.SizeLo, n.SizeHi) / uint64(s.BlockSize)
	if s.Compat&compatFastCommit != 0 {
		fast, err := s.fastBlocks(dev, n)
		if err != nil {
			return 0, err
		}
		blocks -= min(blocks, fast)
	}
	if s.groupOf(uint64(size/s.BlockSize)-1) >= s.Groups() && need > blocks/4 {
		return 0, fmt.Errorf("%w while it is mounted: its journal of %d blocks has space for %d in one transaction, and this takes %d; not mounted, it can",
			ErrGrow, blocks, blocks/4, need)
	}
	return size, nil
}

// fastBlocks is how many blocks of the journal are kept for fast commits, which no transaction
// has: as many as its superblock says, 256 where it says nothing.
//
// Source: jbd2_journal_get_num_fc_blks in include/linux/jbd2.h.
func (s *Superblock) fastBlocks(dev block.Device, journal inode) (uint64, error) {
	at, ok := s.firstBlock(dev, journal)
	if !ok {
		return 0, fmt.Errorf("%w while it is mounted: where its journal begins is not known, and so not how much space it has; not mounted, it can",
			ErrGrow)
	}
	b, err := block.ReadSized(dev, int64(at)*int64(s.BlockSize), 1024, 1024)
	if err != nil {
		return 0, fmt.Errorf("superblock of the journal: %w", err)
	}
	if n := binary.BigEndian.Uint32(b[journalFastAt:]); n != 0 {
		return uint64(n), nil
	}
	return 256, nil
}

// MarkGrown makes a mounted file system larger as the kernel does. It is for simulated
// machines.
func MarkGrown(dev block.Device, to quantity.Bytes) error {
	s, err := Read(dev)
	if err != nil {
		return err
	}
	state, incompat := s.disk.State, s.disk.Incompat
	put := func(s *Superblock) error { return block.WriteBytes(dev, s.sealed(), superOffset) }
	s.disk.State, s.disk.Incompat = 1, incompat&^incompatRecover
	if err := put(s); err != nil {
		return err
	}
	if _, err := Grow(context.Background(), dev, to, nil); err != nil {
		return err
	}
	if s, err = Read(dev); err != nil {
		return err
	}
	s.disk.State = state
	s.disk.Incompat |= incompat & incompatRecover
	return put(s)
}
