// Package deed is the durable record of committed drafts: it carries them out,
// lists them, and recovers those that were cut short.
//
// A deed is a directory below STATE/deeds, named by its number and code:
//
//	extents     where bytes lie: per stroke the runs after and before (binary)
//	after.img   the bytes after each stroke, in zstd frames of at most 64 KiB; the same
//	            bytes are stored once
//	before.img  the bytes before each stroke, likewise
//	manifest    everything else as JSON, and the digests of the three above
//	log         one line with a checksum before and after each stroke
//
// The manifest is renamed into place last: a directory without one never
// touched a device. Units are carried out in order, each followed by a sync and
// a read-back past the page cache; a deed goes back by the same strokes in
// reverse. So at any instant the log tells between which two strokes the devices
// stand, or within which one, and both directions lead out.
//
// The formats are Fundus's own and versioned: a later release recovers them.
package deed
