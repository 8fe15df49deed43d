package ext

import (
	"fmt"
	"strings"
	"time"

	"fundus/core/fs"
	"fundus/core/quantity"
)

// Facts gives the figures of a new file system with their arithmetic.
func (l *Layout) Facts() []fs.Fact {
	size, _ := quantity.Count(l.Blocks).Times(l.BlockSize) // Plan keeps it below 64 TiB
	bytes := func(blocks uint64) quantity.Bytes { return quantity.Bytes(blocks) * l.BlockSize }
	inodes := l.Groups * l.InodesPerGroup
	facts := []fs.Fact{
		{Name: "size", Value: fmt.Sprintf("%d blocks × %d bytes = %d bytes (%v)", l.Blocks, l.BlockSize, size, size)},
		{Name: "inodes", Value: fmt.Sprintf("%d groups × %d = %d", l.Groups, l.InodesPerGroup, inodes)},
		{
			Name:  "reserved",
			Value: fmt.Sprintf("%d blocks = %v for %s%s", l.Reserved, bytes(l.Reserved), owner(uint16(l.options.ReservedUser)), l.capped()),
		},
	}
	if asked := uint64(l.options.Inodes); asked > 0 && asked != inodes {
		facts[1].Value += fmt.Sprintf("; %d were asked for: each group has as many, in whole blocks of %d", asked,
			l.BlockSize/l.options.InodeSize)
	}
	if l.Left > 0 {
		facts = append(facts, fs.Fact{Name: "left over", Value: fmt.Sprintf("%d bytes at the end are too few for a block group", l.Left)})
	}
	switch {
	case l.JournalBlocks > 0:
		facts = append(facts, fs.Fact{Name: "journal", Value: fmt.Sprintf("%d blocks = %v", l.JournalBlocks, bytes(l.JournalBlocks))})
	case l.options.Journal == BySize:
		facts = append(facts, fs.Fact{Name: "journal", Value: "none: the file system is too small for one"})
	default:
		facts = append(facts, fs.Fact{Name: "journal", Value: "none: after a power cut it has to be checked whole"})
	}
	if tables := bytes(l.Groups * l.TableBlocks); l.options.FullTables {
		facts = append(facts, fs.Fact{
			Name:  "tables",
			Value: fmt.Sprintf("%d groups × %d blocks = %v are zeroed at once", l.Groups, l.TableBlocks, tables),
		})
	} else {
		facts = append(facts, fs.Fact{
			Name: "tables",
			Value: fmt.Sprintf("%d groups × %d blocks = %v, which the kernel zeroes after the first mount", l.Groups,
				l.TableBlocks, tables),
		})
	}
	var backups []uint64
	for _, g := range l.backups {
		backups = append(backups, l.groupStart(g))
	}
	return append(facts, fs.Fact{Name: "copies", Value: copiesOf(l.backups, backups, l.BlockSize)})
}

// note says what it means that the tables are written, where it takes its time.
func (l *Layout) note() string {
	const much, perSecond = quantity.GiB, 100_000_000 // what a disk that turns writes
	tables, _ := quantity.Count(l.Groups * l.TableBlocks).Times(l.BlockSize)
	if !l.options.FullTables || tables < much {
		return ""
	}
	why := "tables=full"
	if !l.options.Checksums {
		why = "without checksums"
	}
	took := (time.Duration(tables/perSecond) * time.Second).Round(time.Minute)
	return fmt.Sprintf("%s all %v (%s) of inode tables are written at once, at 100 MB/s in about %s; the deed keeps the old contents there, except zeros",
		why, tables, tables.SI(), strings.TrimSuffix(max(took, time.Minute).String(), "0s"))
}

// capped says where a share that nobody asked for stops.
func (l *Layout) capped() string {
	if uncapped := l.options.Reserved.Of(l.Blocks, l.BlockSize); uncapped > l.Reserved {
		return fmt.Sprintf("; of 5%% it stops at %v", l.options.ReservedMost)
	}
	return ""
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
