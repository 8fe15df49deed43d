// Package gpt reads and writes GUID partition tables.
//
// Two copies of a header and an entry array frame the disk; sector 0 holds a
// protective MBR:
//
//	LBA 0       protective MBR (its first 440 bytes are boot code: kept)
//	LBA 1       primary header ──┐ points to
//	LBA 2..     entry array    ◀─┘
//	            usable space
//	last-n..    backup entry array
//	last        backup header
//
// Every byte that the package does not understand is kept. Linux looks at the
// backup only where the primary is invalid, and at neither without a
// protective record; Write orders its phases by that, so that a cut at any
// sector leaves Linux the old table or the new one.
//
// Source: UEFI Specification 2.10, section 5.3 (GUID Partition Table Disk
// Layout) and 5.2.3 (Protective MBR); what Linux believes:
// block/partitions/efi.c.
package gpt
