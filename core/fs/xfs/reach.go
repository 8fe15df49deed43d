package xfs

import (
	"encoding/binary"
	"errors"
	"fmt"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/quantity"
)

// ErrGrow is a growth that the kernel does not take part in.
var ErrGrow = errors.New("it cannot be made larger")

// leastInLast is how many blocks a last group has at the least, and mostGroups how many groups
// there can be: XFS_MIN_AG_BLOCKS and XFS_MAX_AGNUMBER.
const (
	leastInLast = 64
	mostGroups  = 1<<32 - 1
)

// Reach is the size that the kernel makes of a mounted XFS which is to have at most so many
// bytes: a last group that would have less than 64 blocks is left out.
//
// Source: xfs_growfs_data_private in fs/xfs/xfs_fsops.c of Linux 6.1. Errors: ErrGrow,
// fs.ErrUnsupported.
func Reach(dev block.Device, to quantity.Bytes) (quantity.Bytes, error) {
	c, err := recognise(dev)
	if err != nil {
		return 0, err
	}
	if c == nil || c.State == fs.Damaged {
		return 0, fmt.Errorf("%w: its superblock is damaged", fs.ErrUnsupported)
	}
	b, err := block.ReadSized(dev, 0, readSize, readSize)
	if err != nil {
		return 0, err
	}
	be := binary.BigEndian
	bs, group, had := quantity.Bytes(be.Uint32(b[blockSize:])), uint64(be.Uint32(b[groupSize:])), be.Uint64(b[blocks:])
	if bs == 0 || group == 0 {
		return 0, fmt.Errorf("%w: its superblock is damaged", fs.ErrUnsupported)
	}
	n := uint64(to / bs)
	if rest := n % group; rest < leastInLast {
		n -= rest
	}
	if n = min(n, group*mostGroups); n < had {
		return 0, fmt.Errorf("%w by so little: a last group has at least %d blocks of %v", ErrGrow, leastInLast, bs)
	}
	return quantity.Bytes(n) * bs, nil
}
