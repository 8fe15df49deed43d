package inventory

import (
	"fundus/core/fs"
	"fundus/core/table"
)

// Holding is what a device holds, or may hold, as far as it matters to whoever would write
// to it.
type Holding string

// The holdings.
const (
	Empty      Holding = "empty"            // every sampled place reads as zeros
	Vacant     Holding = "a table, no part" // a partition table without a partition
	Parts      Holding = "partitions"
	Known      Holding = "content" // something that a probe recognises
	Unknown    Holding = "unknown" // data that none recognises
	LostTable  Holding = "lost table"
	Unreadable Holding = "unreadable"
	Silent     Holding = "silent"
	Fenced     Holding = "fenced"
	Chain      Holding = "chain"      // an extended partition
	NoSectors  Holding = "no sectors" // an entry of a table that has none
)

// Holding tells what the device holds. The order is that of what must not be overlooked: a disk
// that is silent says nothing about its content, a fence stands in place of something, and
// what could not be read may be anything.
func (n Node) Holding() Holding {
	c, ok := n.Content()
	switch {
	case n.Silent:
		return Silent
	case n.Hardware.State == NoMedium:
		return Unreadable
	case n.Entry.Number > 0 && n.Entry.Span.Count == 0:
		return NoSectors
	case ok && c.Class == fs.Fence:
		return Fenced
	case n.Entry.Role == table.Extended:
		return Chain
	case n.Problem != "":
		return Unreadable
	case ok:
		return Known
	case n.Table != nil && len(n.Table.Parts) > 0:
		return Parts
	case n.Table == nil && len(n.TableBad) > 0:
		return LostTable
	case n.Table != nil:
		return Vacant
	case n.Within != "":
		return Known
	case len(n.Contents) > 0: // several that contradict each other, or a table that nobody can read
		return Known
	case n.Zeros:
		return Empty
	}
	return Unknown
}

// MayHold reports whether something could be lost. A table without a partition is nothing
// that anybody would miss: it is made again in a moment.
func (h Holding) MayHold() bool { return h != Empty && h != Vacant && h != NoSectors }

// Unrecognised reports whether there are bytes of which no probe knows anything, or a table that
// cannot be read.
func (n Node) Unrecognised() bool {
	h := n.Holding()
	return (h == Unknown || h == LostTable) && len(n.Contents) == 0
}
