// Package fs is what file systems share: what a probe says of the bytes that
// it recognised, and the classes of what can be on a device. A file-system
// package depends on this package and on core/block, never on another file
// system or on a table.
package fs

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"fundus/core/extent"
	"fundus/core/mountopt"
	"fundus/core/quantity"
)

// Class groups kinds by what they are for.
type Class string

// The classes.
const (
	FileSystem Class = "file system"
	Swap       Class = "swap"
	Table      Class = "partition table"
	Fence      Class = "fence"
	Member     Class = "member" // of an array, a volume group, a cache
	Encrypted  Class = "encrypted"
)

// State says how a file system was left.
type State string

// The states.
const (
	Clean    State = "in order"
	Dirty    State = "not cleanly unmounted"
	Recovery State = "needs journal recovery"
	Errors   State = "errors recorded"
	Damaged  State = "damaged superblock"
	Asleep   State = "hibernated"

	NotRecorded State = "not recorded"
)

// Feature is one that the kind knows by a bit of its superblock.
type Feature struct {
	Field    string // "compatible", "incompatible", "read-only"
	Bit      uint32
	Constant string // the kernel's name of it
	Meaning  string // in plain words
}

// Content is what a probe recognised.
type Content struct {
	// Beside is set where a partition table on the same device is no contradiction: an
	// optical volume leaves the first sectors free, and images for sticks have a table there.
	Beside     bool
	Labels     bool           // Fundus can change its label
	Kind       string         // "ext4", "FAT32"
	Family     string         // name of the kind that recognised it: "ext", "fat"
	Version    string         // of the format, "" where its kind says it all
	Class      Class          //
	Label      string         // as stored, not yet made safe for a terminal
	UUID       string         // in the form that Linux and fstab use
	Size       quantity.Bytes // by its own superblock, 0 where not recorded
	BlockSize  quantity.Bytes // 0 where not recorded
	Used       quantity.Bytes // as recorded; only with HasUsage
	HasUsage   bool
	State      State
	AtMount    AtMount        // what the kernel finds at a mount behind a good superblock
	Ownerless  bool           // it keeps no owners and modes of files
	OldFormat  bool           // of a version before today's
	NoJournal  bool           // its kind may have one, and it has none
	Unknown    []string       // features that Fundus does not know: it will not write
	Member     OneOf          // of a kind that spans several devices: which of them this is
	Sealed     bool           // a checksum over its label, its size among that, was right: there is no doubt of it
	Unread     string         // what it is a member of, where that has content of its own that no probe reads
	Yields     string         // a kind that is believed instead where both are there
	Rank       Rank           // who is believed where several are there
	AtEnd      bool           // its superblock lies at the end: what stands at the start is its own content
	Due        string         // why a check is due by its own count, "" where none is
	CheckBy    time.Time      // until when it is to be looked through, zero where never
	Stripe     quantity.Bytes // of the array that it was made for, 0 where not recorded
	Types      []string       // as which the kernel mounts it, the first as fstab says it; nil: as its kind alone
	Pass       int            // in which order a boot checks it, as fstab's last field says it; 0: not at all
	Grows      bool           // it can be made larger, and has a UUID by rights
	Super      extent.Span    // bytes of the superblock that the kernel writes to; none where that is not known
	Signatures []extent.Span  // bytes; the first is what the kernel would believe
	Features   []Feature      // that it uses, of the kinds that list them
	Facts      []Fact         // for inspect, in the order to be shown
}

// OneOf is a device of several that hold something together.
type OneOf struct {
	ID    string // of this device, as Linux writes a UUID
	Index int    // from 1
	Of    int    // how many there are; 0 where that is not recorded
}

// Spans reports whether the content lies on other devices as well.
func (c Content) Spans() bool { return c.Member.Of > 1 }

// AtMount is why the kernel refuses to mount what has a good superblock: every mount, every one but
// those that leave the journal alone, or one for writing. All are "" where nothing that it reads is
// against it.
type AtMount struct{ Any, Journal, Writing string }

// Why is the gravest of them.
func (m AtMount) Why() string { return cmp.Or(m.Any, m.Journal, m.Writing) }

// Words are kind, label and size, as they stand in a sentence.
func (c Content) Words() string {
	text := c.Kind
	if c.Label != "" {
		text += " " + c.Label
	}
	if c.HasUsage {
		text += fmt.Sprintf(", %v used of %v", c.Used, c.Size)
	} else if c.Size > 0 {
		text += fmt.Sprintf(", %v", c.Size)
	}
	return text
}

// Remains is what is left of a file system whose superblock is gone, by copies of it: what it
// was, as they say, the bytes at which they lie, and at how many places one was looked for.
type Remains struct {
	Content Content
	Copies  []int64
	Looked  int
	Option  string // with which the kernel mounts it by the first of them, for reading
}

// Uses reports whether it uses the feature whose constant ends so.
func (c Content) Uses(constant string) bool {
	return slices.ContainsFunc(c.Features, func(f Feature) bool { return strings.HasSuffix(f.Constant, "_"+constant) })
}

// Has reports whether the file system itself has what a mount option needs.
func (c Content) Has(need mountopt.Need) bool {
	switch need {
	case mountopt.Journal:
		return !c.NoJournal
	case mountopt.Older:
		return c.OldFormat
	}
	return true
}

// MountType is what fstab and mount call the content.
func (c Content) MountType() string {
	if len(c.Types) > 0 {
		return c.Types[0]
	}
	return c.Kind
}

// MountsAs reports whether the kernel mounts the content as the type.
//
// An empty type is auto, and of several with commas any will do. A driver in user space goes
// by the kind's name with its own behind a dash.
func (c Content) MountsAs(typ string) bool {
	own := c.Types
	if len(own) == 0 {
		own = []string{c.Kind}
	}
	if c.Excluding(typ) { // any type but those
		return c.Class == FileSystem &&
			!slices.ContainsFunc(own, func(o string) bool { return slices.Contains(strings.Split(typ[len("no"):], ","), o) })
	}
	return slices.ContainsFunc(strings.Split(typ, ","), func(word string) bool {
		if word == "" || word == "auto" {
			return c.Class != Swap
		}
		return slices.ContainsFunc(own, func(o string) bool { return word == o || strings.HasPrefix(word, o+"-") })
	})
}

// Excluding reports whether the word for a type is one for any but those that it names, as the
// mount program reads it: "noxfs".
func (c Content) Excluding(typ string) bool {
	return strings.HasPrefix(typ, "no") && !strings.HasPrefix(typ, "none") && !slices.Contains(c.Types, typ)
}

// Rank orders contents that have a signature on the same bytes, as udev does.
type Rank int

// The ranks.
const (
	Usual  Rank = iota // two of these contradict each other
	Holder             // what holds something of its own: encryption, a physical volume
	Array              // a member of an array
)

// Fact is one line of inspect: a figure with its arithmetic.
type Fact struct {
	Name, Value string
}

// Errors that file-system packages share.
var (
	ErrTooSmall    = errors.New("too small for this file system")
	ErrTooLarge    = errors.New("too large for this file system")
	ErrLabel       = errors.New("the label does not fit")
	ErrBlockSize   = errors.New("a block size that does not fit")
	ErrUnsupported = errors.New("it has features that Fundus does not know, so nothing is written to it")
)
