package ext

import (
	"fmt"

	"fundus/core/fs"
	"fundus/core/quantity"
)

// Facts gives the figures of a new file system with their arithmetic.
func (l *Layout) Facts() []fs.Fact {
	size, _ := quantity.Count(l.Blocks).Times(l.BlockSize) // Plan keeps it below 64 TiB
	reserved := quantity.Bytes(l.Reserved) * l.BlockSize
	facts := []fs.Fact{
		{Name: "size", Value: fmt.Sprintf("%d blocks × %d bytes = %d bytes (%v)", l.Blocks, l.BlockSize, size, size)},
		{Name: "inodes", Value: fmt.Sprintf("%d groups × %d = %d", l.Groups, l.InodesPerGroup, l.Groups*l.InodesPerGroup)},
		{Name: "reserved", Value: fmt.Sprintf("%d blocks = %v for root", l.Reserved, reserved)},
	}
	if l.Left > 0 {
		facts = append(facts, fs.Fact{Name: "left over", Value: fmt.Sprintf("%d bytes at the end are too few for a block group", l.Left)})
	}
	if l.JournalBlocks == 0 {
		facts = append(facts, fs.Fact{Name: "journal", Value: "none: the file system is too small for one"})
	} else {
		facts = append(facts, fs.Fact{Name: "journal", Value: fmt.Sprintf("%d blocks = %v", l.JournalBlocks, quantity.Bytes(l.JournalBlocks)*l.BlockSize)})
	}
	var backups []uint64
	for _, g := range l.backups {
		backups = append(backups, l.groupStart(g))
	}
	if len(backups) > 0 {
		facts = append(facts, fs.Fact{Name: "backups", Value: "superblock copies at blocks: " + joinNumbers(backups, 6)})
	}
	return facts
}
