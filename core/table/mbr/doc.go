// Package mbr reads and writes master boot records with their chain of logical
// partitions.
//
//	sector 0     boot code (kept) │ disk signature │ four records
//	                                                 │ one may be an extended partition:
//	first of it  ┌ record 0: a logical partition, counted from this sector
//	(chain)      └ record 1: the next chain sector, counted from the extended partition
//	             ...
//
// Linux numbers logical partitions from 5 in the order of the chain, wherever they
// lie. So a new one is put at the end of the chain and renumbers nobody, while
// taking one out moves the later ones up. A table is kept as the sectors that it is
// made of: what is not edited keeps every byte.
//
// Source: UEFI Specification 2.10, section 5.2.1 (Legacy Master Boot Record); what
// Linux takes for a table, and how it follows the chain: block/partitions/msdos.c.
package mbr
