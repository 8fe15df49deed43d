// Package bench is a simulated machine in a directory:
//
//	bench.yaml    host and disks: image, size, bus, model, serial, sectors …
//	disks/        one sparse image a disk
//	root/         the machine's text files and mount points
//	kernel.json   what its kernel knows: boot id, mounts, swaps, partitions
//	state/        deeds and stored drafts
//
// It refuses what a kernel refuses (the rules of package machine), and does to
// the bytes what a kernel does: mounting for writing changes the superblock. A
// fault can be planted in a disk; a power cut switches the bench off until the
// next boot.
package bench
