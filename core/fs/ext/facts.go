package ext

import (
	"fmt"
	"strings"

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
	return append(facts, fs.Fact{Name: "copies", Value: copiesOf(l.backups, backups, l.BlockSize)})
}

// copiesOf says in which groups copies of the superblock are, and the place of the first,
// which is what somebody with a damaged one looks for. Starts are the blocks of the groups.
func copiesOf(groups, starts []uint64, blockSize quantity.Bytes) string {
	const few = 6
	if len(groups) == 0 {
		return "none of the superblock"
	}
	var words []string
	for _, g := range groups[:min(few, len(groups))] {
		words = append(words, fmt.Sprint(g))
	}
	list := strings.Join(words, ", ")
	if len(groups) > few {
		list += " …"
	}
	at, _ := quantity.Count(starts[0]).Times(blockSize)
	return fmt.Sprintf("%d of the superblock, in groups %s; the first at block %d, byte %d", len(groups), list, starts[0], at)
}
