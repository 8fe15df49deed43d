package table

import "fundus/core/extent"

// HighestNumber is the last partition that Linux has a device for: its tables have room for
// 256 devices, the disk itself among them (block/partitions/core.c, DISK_MAX_PARTS).
const HighestNumber = 255

// extendedBytes is what Linux shows of an extended partition, which nobody is to write to.
const extendedBytes = 1024

// Linux is the place that the kernel gives to a partition of the table when it reads it from a
// disk of so many sectors; none where it makes no device for it.
//
// This is the one rule of what becomes of a table: what a bench has in its kernel, what a boot
// finds, and what kernel and table are compared by. A GPT's entry that names sectors behind the
// end of the disk is left out (block/partitions/efi.c, is_pte_valid); of an MBR's record the part
// that lies on the disk is kept (block/partitions/core.c, blk_add_partition), and of an extended
// partition two sectors of 512 bytes, or one that is larger (block/partitions/msdos.c).
func (t *Table) Linux(p Partition, sectors uint64) extent.Span {
	switch {
	case t.Unseen != "" || p.Number > HighestNumber || p.Span.Count == 0 || p.Span.Start >= sectors:
		return extent.Span{}
	case t.Scheme == GPT && p.Span.Count > sectors-p.Span.Start:
		return extent.Span{}
	}
	span := extent.Span{Start: p.Span.Start, Count: min(p.Span.Count, sectors-p.Span.Start)}
	if p.Role == Extended {
		span.Count = min(span.Count, max(extendedBytes/uint64(t.Sector), 1))
	}
	return span
}
