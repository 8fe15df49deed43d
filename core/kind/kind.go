// Package kind is the one list of what can be on a device. Each kind has its
// probe and the small capabilities that its package offers; a new one is a
// folder below core/fs and one line in All.
package kind

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/fence"
	"fundus/core/fs"
	"fundus/core/mountopt"
	"fundus/core/near"
	"fundus/core/probe"
	"fundus/core/progress"
	"fundus/core/quantity"
	"fundus/core/table/gpt"
	"fundus/core/table/mbr"
)

// Kind is one kind of content and what Fundus can do with it. A capability
// that it does not have is nil.
type Kind struct {
	Name  string                                      // the family: "ext", "fat"
	Types []string                                    // what Linux and udev call its variants, where Fundus must know
	Makes []Maker                                     // its variants that `format` makes
	Probe func(dev block.Device) (*fs.Content, error) // nil content: not this kind
	// AtMount reads what the kernel reads before it has mounted; nil: nothing more is known.
	AtMount  func(dev block.Device) fs.AtMount
	Fields   func(dev block.Device) ([]field.Structure, error)
	Values   func(dev block.Device) ([]fs.Value, error) // today's values of the settings
	SetLabel func(dev block.Device, label string) error
	SetID    func(dev block.Device, id fs.ID) error // another identifier, while it is not mounted
	// LiveID is nil where the kernel changes the identifier of such a mounted content by its
	// own call, else why not; nil itself where it has no call.
	LiveID func(c fs.Content) error
	Adjust func(dev block.Device, wishes fs.Wishes) error // settings that can be given later
	// Alike is the mount option that does for one mount what a setting would; "" where none.
	Alike     func(v fs.Value) string
	SwapFiles []SwapFile // how files to swap on are made, by the type of the mount
	// Resizing is how it gets another size while nobody uses it; nil: nobody knows.
	Resizing *Resizing
	// Growing is how the kernel makes a mounted one larger; nil: it does not.
	Growing *Growing
	// NeverLess says why nobody makes it smaller; "" where that can be.
	NeverLess string
	// Exchanges says how the kernel exchanges the bytes of a mounted file with another's, by
	// the type of the mount.
	Exchanges map[string]Exchange
	// Untouched are the options beside ro with which a mount writes nothing.
	Untouched []string
	Relabels  bool                               // the kernel changes the label of a mounted one by its own call
	FitLabel  func(label string) (string, error) // as the kind stores it; nil: as it is
	Marks     []Mark                             // where its magic lies, for whoever searches a disk
	// Copies looks for copies of the superblock: how many say the same, at how many
	// places it looked, and whether what is at the beginning is no copy itself.
	Copies func(dev block.Device) (same, looked int, first bool)
	// Remains is what is left of one whose first superblock is gone, nil for nothing; Begun how
	// many bytes before the device one begins of which a copy lies at the device's beginning.
	Remains    func(dev block.Device) *fs.Remains
	Begun      func(dev block.Device) (before int64, ok bool)
	AtOther    *AtOther    // nil: the kernel mounts it by one superblock alone
	Simulation *Simulation // what a mount does to the bytes, for benches
	Options    *Mounts     // nil: what the kernel takes is not known
	Alone      string      // the option without which the kernel mounts no two with one UUID; "" where it does
	OnlyRead   bool        // no mount of it can be written to
}

// Resizing gives what is not in use another size.
type Resizing struct {
	// Reach is the size that it would have of at most so many bytes.
	Reach   func(dev block.Device, to quantity.Bytes) (quantity.Bytes, error)
	Resize  func(ctx context.Context, dev block.Device, to quantity.Bytes, sink progress.Sink) (quantity.Bytes, error)
	Shrinks bool // it can be made smaller too
}

// Growing is how the kernel makes what is mounted larger.
type Growing struct {
	Types []string // as which it is mounted then
	Call  GrowCall
	// Reach is the size that comes of at most so many bytes, by the kernel's own rule.
	Reach func(dev block.Device, to quantity.Bytes) (quantity.Bytes, error)
}

// GrowCall is the kernel's request.
type GrowCall string

// The requests.
const (
	GrowBlocks GrowCall = "blocks" // ext4: how many it is to have
	GrowData   GrowCall = "data"   // XFS: how many its data part is to have
)

// Exchange is how the kernel exchanges what two files hold.
type Exchange string

// The ways.
const (
	Ranges Exchange = "ranges" // part by part, while the file is in use
	Whole  Exchange = "whole"  // the file as a whole, where nobody changed it meanwhile
)

// ExchangeOf is that of a type of mounts; "" where there is none.
func ExchangeOf(typ string) Exchange {
	for _, k := range All() {
		if e := k.Exchanges[typ]; e != "" {
			return e
		}
	}
	return ""
}

// SwapFile is how a file to swap on is made on a mount of the type.
type SwapFile struct {
	Type    string
	Written bool // its blocks have to be written: they are not given without that
	Plain   bool // it is never to be copied on write, which is said while it is empty
	Untried bool // by the rule of the kind, and no proof of Fundus has tried it
}

// Mounts is what the kernel mounts a kind as, and the options that it takes then.
type Mounts struct {
	As   []string
	Rows func() []mountopt.Option
}

// AtOther is a mount option that names another superblock than the first one.
type AtOther struct {
	Option string
	// Read gives what lies there by the superblock that the value of the option names.
	Read func(dev block.Device, value string) (*fs.Content, error)
}

// AtOtherOf is the option among the list that names another superblock, for a mount of the
// type, "" or "auto" for any, and how that is read; nil where there is none.
func AtOtherOf(typ string, options []string) (e *AtOther, value string) {
	for _, k := range All() {
		if k.AtOther == nil || typ != "" && typ != "auto" && !slices.Contains(k.Types, typ) {
			continue
		}
		for _, o := range slices.Backward(options) { // the last one counts
			if v, is := strings.CutPrefix(o, k.AtOther.Option+"="); is {
				return k.AtOther, v
			}
		}
	}
	return nil, ""
}

// Remains is what is left of a file system whose first superblock is gone, by the copies of it
// that one of the kinds finds; nil for nothing.
func Remains(dev block.Device) *fs.Remains {
	for _, k := range All() {
		if k.Remains == nil {
			continue
		}
		if r := k.Remains(dev); r != nil {
			return r
		}
	}
	return nil
}

// Mark is a magic so many bytes behind the beginning.
type Mark struct {
	At    int64
	Bytes string
}

// Maker makes one variant of the kind.
type Maker struct {
	Word     string              // that `format` takes
	ID       fs.IDForm           // of its identifier
	Settings func() []fs.Setting // what it can be made with
	Traits   func() []fs.Trait   // what not every reader of it knows
	Make     func(ctx context.Context, dev block.Device, o fs.Order) (fs.Made, error)
	// Variant is the kind that a probe would see, where it follows from the size and the
	// settings; nil: the word.
	Variant func(size quantity.Bytes, geo block.Geometry, o fs.Order) (string, error)
}

// Called is what a probe would call the thing that is made, without making it.
func (m Maker) Called(size quantity.Bytes, geo block.Geometry, o fs.Order) (string, error) {
	if m.Variant == nil {
		return m.Word, nil
	}
	return m.Variant(size, geo, o)
}

// Makes reports whether the content is of the kind that is made.
func (m Maker) Makes(c fs.Content) bool {
	return strings.EqualFold(c.Kind, m.Word) || c.Family == m.Word
}

// Simulation changes bytes as the kernel does.
type Simulation struct {
	Mounted   func(dev block.Device, at time.Time, where string) error
	Unmounted func(dev block.Device, at time.Time) error
	Labelled  func(dev block.Device, label string) error // while it is mounted
	// Identified is the change of the identifier while it is mounted.
	Identified func(dev block.Device, id fs.ID) error
	// Grown is its growth while it is mounted.
	Grown func(dev block.Device, to quantity.Bytes) error
}

// All lists the kinds in the order in which Linux would ask for them. The list is made once and
// shared: nobody changes it.
//
// The order matters where two probes recognise the same bytes: the fence first, since it
// stands in place of signatures; tables before what may lie behind them; an MBR last, since
// its magic is that of every boot sector.
func All() []Kind { return all() }

var all = sync.OnceValue(list)

func list() []Kind {
	return []Kind{
		{Name: "fence", Probe: fence.Probe, Fields: fence.Fields},
		{Name: "gpt", Probe: gpt.Probe, Fields: gpt.Fields},
		extKind(),
		xfsKind(),
		{Name: "xfs log", Probe: probe.XFSLog, Fields: probe.XFSLogFields},
		fatKind(),
		{
			Name:    "exfat",
			Probe:   probe.ExFAT,
			Fields:  probe.ExFATFields,
			Marks:   []Mark{{3, "EXFAT   "}},
			Options: &Mounts{[]string{"exfat"}, probe.ExFATOptions},
		},
		{
			Name:    "ntfs",
			Probe:   probe.NTFS,
			Fields:  probe.NTFSFields,
			Marks:   []Mark{{3, "NTFS    "}},
			Options: &Mounts{[]string{"ntfs3"}, probe.NTFSOptions},
		},
		{
			Name:      "btrfs",
			Probe:     probe.Btrfs,
			Fields:    probe.BtrfsFields,
			Marks:     []Mark{{65600, "_BHRfS_M"}},
			Copies:    probe.BtrfsCopies,
			SwapFiles: []SwapFile{{Type: "btrfs", Plain: true, Untried: true}},
			Options:   &Mounts{[]string{"btrfs"}, probe.BtrfsOptions},
		},
		{Name: "f2fs", Probe: probe.F2FS, Fields: probe.F2FSFields, Marks: []Mark{{1024, "\x10\x20\xF5\xF2"}}},
		{Name: "udf", Probe: probe.UDF, Fields: probe.UDFFields, Options: &Mounts{[]string{"udf"}, probe.UDFOptions}},
		{
			Name:     "iso9660",
			OnlyRead: true,
			Probe:    probe.ISO9660,
			Fields:   probe.ISO9660Fields,
			Options:  &Mounts{[]string{"iso9660"}, probe.ISOOptions},
		},
		{
			Name:     "squashfs",
			OnlyRead: true,
			Probe:    probe.Squashfs,
			Fields:   probe.SquashfsFields,
			Options:  &Mounts{[]string{"squashfs"}, probe.SquashfsOptions},
		},
		{
			Name:     "erofs",
			OnlyRead: true,
			Probe:    probe.EROFS,
			Fields:   probe.EROFSFields,
			Options:  &Mounts{[]string{"erofs"}, probe.EROFSOptions},
		},
		{Name: "jfs", Probe: probe.JFS, Fields: probe.JFSFields, Marks: []Mark{{32768, "JFS1"}}},
		{Name: "reiserfs", Probe: probe.ReiserFS, Fields: probe.ReiserFSFields, Marks: []Mark{{65588, "ReIsEr"}}},
		{Name: "nilfs2", Probe: probe.NILFS2, Fields: probe.NILFS2Fields},
		{Name: "hfsplus", Probe: probe.HFSPlus, Fields: probe.HFSPlusFields},
		{Name: "apfs", Probe: probe.APFS, Fields: probe.APFSFields},
		{Name: "minix", Probe: probe.Minix, Fields: probe.MinixFields},
		swapKind(),
		{Name: "luks", Probe: probe.LUKS, Fields: probe.LUKSFields, Marks: []Mark{{0, "LUKS\xBA\xBE"}}},
		{Name: "bitlocker", Probe: probe.BitLocker, Fields: probe.BitLockerFields, Marks: []Mark{{3, "-FVE-FS-"}}},
		{Name: "physical volume", Probe: probe.PhysicalVolume, Fields: probe.PhysicalVolumeFields, Marks: []Mark{{512, "LABELONE"}}},
		{Name: "raid", Probe: probe.Raid, Fields: probe.RaidFields, Marks: []Mark{{4096, "\xFC\x4E\x2B\xA9"}, {0, "\xFC\x4E\x2B\xA9"}}},
		{Name: "bcache", Probe: probe.Bcache, Fields: probe.BcacheFields},
		{Name: "zfs", Probe: probe.ZFS, Fields: probe.ZFSFields},
		{Name: "mbr", Probe: mbr.Probe, Fields: mbr.Fields},
	}
}

// Errors of the list.
var (
	ErrUnknown = errors.New("not a kind that Fundus makes")
	ErrCannot  = errors.New("not possible for this kind")
)

// Makers lists what `format` makes.
func Makers() (list []Maker) {
	for _, k := range All() {
		list = append(list, k.Makes...)
	}
	return list
}

// Words are those that `format` takes for a kind.
func Words() (words []string) {
	for _, m := range Makers() {
		words = append(words, m.Word)
	}
	return words
}

// FindMaker finds what `format` means by the word.
func FindMaker(word string) (Maker, error) {
	for _, m := range Makers() {
		if m.Word == strings.ToLower(word) {
			return m, nil
		}
	}
	for _, k := range All() { // as Linux calls what is mounted
		if len(k.Makes) == 1 && k.Options != nil && slices.Contains(k.Options.As, strings.ToLower(word)) {
			return k.Makes[0], nil
		}
	}
	if meant := near.Nearest(strings.ToLower(word), Words()); meant != "" {
		return Maker{}, fmt.Errorf("%q: %w; did you mean %s?", word, ErrUnknown, meant)
	}
	return Maker{}, fmt.Errorf("%q: %w; it makes: %s", word, ErrUnknown, strings.Join(Words(), " "))
}

// Misspelt is the kind that a word is spelled like; "" for a word that is one, or like none.
func Misspelt(word string) string {
	known := []string{"FAT12", "FAT16", "FAT32"} // as what is found is called
	for _, k := range All() {
		known = append(known, k.Name)
		known = append(known, k.Types...)
		for _, m := range k.Makes {
			known = append(known, m.Word)
		}
	}
	word = strings.ToLower(word)
	if slices.ContainsFunc(known, func(k string) bool { return strings.ToLower(k) == word }) {
		return ""
	}
	return near.Nearest(word, known)
}

// IsType reports whether Linux has the word for content that the probes recognise.
func IsType(word string) bool {
	return slices.ContainsFunc(All(), func(k Kind) bool { return slices.Contains(k.Types, word) })
}

// MakerOf finds the kind that a maker belongs to.
func MakerOf(m Maker) Kind {
	for _, k := range All() {
		if slices.ContainsFunc(k.Makes, func(o Maker) bool { return o.Word == m.Word }) {
			return k
		}
	}
	return Kind{}
}

// MakerLike is the maker of content that is called so; the first where it is none's word.
func (k Kind) MakerLike(word string) Maker {
	for _, m := range k.Makes {
		if m.Word == word {
			return m
		}
	}
	return k.Makes[0]
}

// SwapFiles lists how files to swap on are made, for each type of mount that takes them.
func SwapFiles() (all []SwapFile) {
	for _, k := range All() {
		all = append(all, k.SwapFiles...)
	}
	return all
}

// Label is a label as the kind stores it.
func (k Kind) Label(label string) (string, error) {
	if k.FitLabel == nil || label == "" {
		return label, nil
	}
	return k.FitLabel(label)
}

// Of finds the family of a content that Probe found.
func Of(c fs.Content) (Kind, bool) {
	for _, k := range All() {
		if k.Name == c.Family {
			return k, true
		}
	}
	return Kind{}, false
}

// Probe asks every kind; they share one read of the device's ends. Whatever has
// a valid signature is listed, also where the error says that something else
// could not be looked for.
//
// All of them are listed, not the first: a second signature is what makes udev believe
// none, and what a format must take off. Which one counts is decided from the list, by rank
// (inventory.Node.Content).
func Probe(dev block.Device) ([]fs.Content, error) {
	dev = block.NewEnds(dev)
	var out []fs.Content
	var first error
	for _, k := range All() {
		c, err := k.Probe(dev)
		if err != nil && first == nil { // the others probably fail at the same place
			first = fmt.Errorf("looking for %s: %w", k.Name, err)
		}
		if c != nil {
			c.Family, c.Labels = k.Name, k.SetLabel != nil
			if k.AtMount != nil && c.State != fs.Damaged && !c.AtEnd && int64(c.Size) <= dev.Size() {
				c.AtMount = k.AtMount(dev)
			}
			out = append(out, *c)
		}
	}
	return withoutBootSector(dev, out), first
}

// withoutBootSector drops an MBR without partitions where something else is on the
// device: then sector 0 is the boot sector of that, with code that looks like one.
//
// A file system that begins with boot code may have a table without partitions in its first
// sector by accident of four bytes.
func withoutBootSector(dev block.Device, list []fs.Content) []fs.Content {
	i := slices.IndexFunc(list, func(c fs.Content) bool { return c.Kind == "MBR" })
	if i < 0 || len(list) == 1 {
		return list
	}
	if t, err := mbr.Read(dev); err == nil && t != nil && len(t.Model().Parts) == 0 {
		return slices.Delete(list, i, i+1)
	}
	return list
}

// Fields gives the fields of every structure that Probe goes by, in the order of
// the kinds.
func Fields(dev block.Device) ([]field.Structure, error) {
	dev = block.NewEnds(dev)
	var out []field.Structure
	var first error
	for _, k := range All() {
		c, err := k.Probe(dev)
		if c != nil && err == nil {
			var more []field.Structure
			more, err = k.Fields(dev)
			out = append(out, more...)
		}
		if err != nil && first == nil {
			first = fmt.Errorf("fields of %s: %w", k.Name, err)
		}
	}
	return out, first
}
