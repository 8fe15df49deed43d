package ext

import (
	"context"
	"fmt"
	"strings"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/mountopt"
	"fundus/core/quantity"
)

// options ties each setting of a variant to its field.
func options(v Variant) []fs.Option[Options] {
	list := append(shapeOptions(), journalOption(v))
	if v >= Ext4 {
		list = append(list, featureOptions()...)
	}
	list = append(list, laterOptions()...)
	if v >= Ext4 {
		list = append(list, largeOptions()...)
	}
	list = append(list, rootOptions()...)
	if v >= Ext4 {
		list = append(list, number(fs.ForSetting(fs.ForBoot), func(o *Options) *int64 { return &o.For }))
	}
	return list
}

func number[N ~int64](s fs.Setting, field func(*Options) *N) fs.Option[Options] {
	return fs.Option[Options]{
		Setting: s,
		Get:     func(o *Options) int64 { return int64(*field(o)) },
		Set:     func(o *Options, n int64) { *field(o) = N(n) },
	}
}

func yesNo(s fs.Setting, field func(*Options) *bool) fs.Option[Options] {
	choice := fs.YesNo(s.Key)
	choice.Default, choice.Meaning, choice.When, choice.Since, choice.Shapes, choice.Later = s.Default, s.Meaning, s.When, s.Since, s.Shapes, s.Later
	if s.Names != nil {
		choice.Names = s.Names
	}
	return fs.Option[Options]{Setting: choice, Get: func(o *Options) int64 {
		if *field(o) {
			return 1
		}
		return 0
	}, Set: func(o *Options, n int64) { *field(o) = n == 1 }}
}

func shapeOptions() []fs.Option[Options] {
	const k, m = 1 << 10, 1 << 20
	return []fs.Option[Options]{
		number(fs.Setting{Key: "block", Form: fs.Size, Only: []int64{1 * k, 2 * k, 4 * k}, When: fs.AtMaking,
			Meaning: "the unit of space: a small one wastes less on small files, a large one is faster with large files",
			Default: "4KiB; 1KiB below 512MiB, unless a physical sector is larger"}, func(o *Options) *quantity.Bytes { return &o.BlockSize }),
		number(fs.Setting{Key: "inode-every", Form: fs.Size, Range: [2]int64{1 * k, 64 * m}, Shapes: true, When: fs.AtMaking,
			Meaning: "one inode for so much space, which is the most files there can be",
			Default: "16KiB; 4KiB below 512MiB"}, func(o *Options) *quantity.Bytes { return &o.InodeEvery }),
		number(fs.Setting{Key: "inode-count", Form: fs.Count, Range: [2]int64{64, 1 << 31}, When: fs.AtMaking,
			Meaning: "how many inodes there are, instead; each group has as many as the others",
			Default: "by inode-every"}, func(o *Options) *int64 { return &o.Inodes }),
		number(fs.Setting{Key: "inode-size", Form: fs.Size, Only: []int64{128, 256, 512, 1 * k, 2 * k, 4 * k}, When: fs.AtMaking,
			Meaning: "what each file takes besides its data: a large one has space for attributes, one of 128 bytes has no times after 2038; at most a block",
			Default: "256B"}, func(o *Options) *quantity.Bytes { return &o.InodeSize }),
		number(fs.Setting{Key: "reserved", Form: fs.Part, Range: [2]int64{0, 500}, When: fs.AtMaking | fs.Unmounted,
			Meaning: "the part of the space that only its owner may fill, so that services can still write when users cannot",
			Default: "5%, at most 16GiB"}, func(o *Options) *fs.Portion { return &o.Reserved }),
		number(fs.Setting{Key: "reserved-user", Form: fs.Count, Range: [2]int64{0, 1<<16 - 1}, When: fs.AtMaking | fs.Unmounted,
			Meaning: "who besides root may use it, as a number", Default: "0"}, func(o *Options) *int64 { return &o.ReservedUser }),
		number(fs.Setting{Key: "reserved-group", Form: fs.Count, Range: [2]int64{0, 1<<16 - 1}, When: fs.AtMaking | fs.Unmounted,
			Meaning: "the group that may, as a number; 0 is none but root's",
			Default: "0"}, func(o *Options) *int64 { return &o.ReservedGroup }),
		number(fs.Setting{Key: "growth-room", Form: fs.Count, Range: [2]int64{1, 1024}, Shapes: true, When: fs.AtMaking,
			Meaning: "how many times its size it can grow with its descriptors together; beyond, they are apart",
			Default: "1024"}, func(o *Options) *int64 { return &o.Growth }),
		number(fs.Setting{Key: "stripe-unit", Form: fs.Size, Range: [2]int64{1 * k, 64 * m}, Nought: "none",
			When:    fs.AtMaking | fs.Unmounted,
			Meaning: "what an array writes to one of its members before it goes on with the next",
			Default: "the device's, or the width"}, func(o *Options) *quantity.Bytes { return &o.Unit }),
		number(fs.Setting{Key: "stripe-width", Form: fs.Size, Range: [2]int64{1 * k, 128 * m}, Nought: "none",
			When:    fs.AtMaking | fs.Unmounted,
			Meaning: "a stripe over all members of an array that hold data",
			Default: "the device's, or the unit"}, func(o *Options) *quantity.Bytes { return &o.Width }),
	}
}

// journalOption is the journal: ext2 has none, ext3 is not without one.
func journalOption(v Variant) fs.Option[Options] {
	s := fs.Setting{Key: "journal", Form: fs.Size, Range: [2]int64{1 << 20, maxJournal}, When: fs.AtMaking, Nought: "no", Later: "no",
		Meaning: "the journal, by which it is in order again after a power cut; later it can be taken off",
		Default: "1/128 of the size, 4MiB to 1GiB; none where that leaves too little"}
	switch v {
	case Ext2:
		s.Only, s.Default, s.Meaning = []int64{0}, "no", "ext2 has no journal; ext3 is ext2 with one"
	case Ext3:
		s.Default = "1/128 of the size, 4MiB to 1GiB"
	}
	if v >= Ext3 {
		s.When |= fs.Unmounted
	}
	return number(s, func(o *Options) *quantity.Bytes { return &o.Journal })
}

// featureOptions are those of ext4 that can be left out.
func featureOptions() []fs.Option[Options] {
	return []fs.Option[Options]{
		yesNo(fs.Setting{
			Key:     "checksums",
			Default: "yes",
			When:    fs.AtMaking,
			Meaning: "checksums of the metadata: damage is seen, and most of it need not be written when it is made",
		}, func(o *Options) *bool { return &o.Checksums }),
		yesNo(fs.Setting{Key: "tables", Names: []string{"lazy", "full"}, Shapes: true,
			Default: "lazy; full without checksums", When: fs.AtMaking,
			Meaning: "whether the tables of inodes are zeroed at once, or by the kernel after the first mount"}, func(o *Options) *bool { return &o.FullTables }),
		number(fs.Setting{Key: "flex", Form: fs.Count, Only: []int64{2, 4, 8, 16, 32, 64, 128, 256}, Nought: "no",
			Default: "16", When: fs.AtMaking,
			Meaning: "how many groups have their metadata together"}, func(o *Options) *int64 { return &o.Flex }),
		yesNo(fs.Setting{
			Key:     "wide-numbers",
			Default: "yes",
			When:    fs.AtMaking,
			Meaning: "block numbers of 64 bits: it can grow beyond 2^32 blocks, which are 16 TiB of 4 KiB",
		}, func(o *Options) *bool { return &o.Wide }),
	}
}

// laterOptions are those that lie in the superblock alone.
func laterOptions() []fs.Option[Options] {
	const when = fs.AtMaking | fs.Unmounted
	return []fs.Option[Options]{
		number(fs.Setting{Key: "check-after-mounts", Form: fs.Count, Range: [2]int64{1, 1<<15 - 1}, Nought: "never",
			Default: "never", When: when,
			Meaning: "number of mounts after which a check is due"}, func(o *Options) *int64 { return &o.Checks.AfterMounts }),
		number(fs.Setting{Key: "check-every", Form: fs.Time, Range: [2]int64{1, 49710 * 24 * 3600}, Nought: "never",
			Default: "never", When: when,
			Meaning: "so long after a check, such as 180d, the next is due"}, func(o *Options) *int64 { return &o.Checks.Every }),
		number(fs.Setting{Key: "on-error", Form: fs.Choice, Only: []int64{onContinue, onReadOnly, onPanic},
			Names: []string{"continue", "read-only", "panic"}, Default: "continue", When: when,
			Meaning: "what the kernel does when it finds damage"}, func(o *Options) *int64 { return &o.Checks.OnError }),
		{Setting: fs.Setting{Key: "mount-defaults", Form: fs.Text, Range: [2]int64{0, 63}, Nought: "none", Default: "none", When: when,
			Meaning: "mount options stored in the file system, separated by commas"}, Text: func(o *Options) *string { return &o.MountDefaults }},
	}
}

// largeOptions can be taken up later too, and not be laid down again.
func largeOptions() []fs.Option[Options] {
	const when = fs.AtMaking | fs.Unmounted
	return []fs.Option[Options]{
		yesNo(fs.Setting{
			Key:     "large-directories",
			Later:   "yes",
			Default: "no",
			When:    when,
			Meaning: "directories of more than ten million names; once on, it stays on",
		}, func(o *Options) *bool { return &o.LargeDirectories }),
		yesNo(fs.Setting{
			Key:     "checksum-seed",
			Later:   "yes",
			Default: "no",
			When:    when,
			Meaning: "checksums are independent of the UUID, which can then be changed while mounted; once on, it stays on",
		}, func(o *Options) *bool { return &o.Seed }),
	}
}

func rootOptions() []fs.Option[Options] {
	return []fs.Option[Options]{
		number(fs.Setting{
			Key:     "root-user",
			Form:    fs.Count,
			Range:   [2]int64{0, 1<<32 - 2},
			Shapes:  true,
			Default: "0",
			When:    fs.AtMaking,
			Meaning: "owner (UID) of the root directory",
		}, func(o *Options) *int64 { return &o.RootUser }),
		number(fs.Setting{
			Key:     "root-group",
			Form:    fs.Count,
			Range:   [2]int64{0, 1<<32 - 2},
			Shapes:  true,
			Default: "0",
			When:    fs.AtMaking,
			Meaning: "group (GID) of the root directory",
		}, func(o *Options) *int64 { return &o.RootGroup }),
		number(fs.Setting{
			Key:     "root-mode",
			Form:    fs.Mode,
			Range:   [2]int64{0, 0o7777},
			Shapes:  true,
			Default: "755",
			When:    fs.AtMaking,
			Meaning: "permissions of the root directory, octal",
		}, func(o *Options) *int64 { return &o.RootMode }),
	}
}

// Traits lists what is not known to every reader of ext4, by Documentation/filesystems/ext4
// of Linux, and as readers of boot loaders were tried.
func Traits() []fs.Trait {
	since := func(major, minor int) fs.Version { return fs.Version{Major: major, Minor: minor} }
	return []fs.Trait{
		{Name: "extents", Since: since(2, 6), Boot: true},
		{Name: "checksums of the metadata", Key: "checksums", Since: since(3, 5), Boot: true},
		{Name: "checksums independent of the UUID", Key: "checksum-seed", Since: since(4, 4), Off: true},
		{Name: "large directories", Key: "large-directories", Since: since(4, 13), Boot: true, Off: true},
	}
}

// Settings lists what a new file system of the variant can be made with.
func (v Variant) Settings() []fs.Setting { return fs.Settings(options(v)) }

// ordered are the options that an order amounts to, and the wishes with what follows from
// their reader.
func (v Variant) ordered(r fs.Order) (Options, fs.Wishes, error) {
	o, wishes := Usual(v), r.Wishes
	o.Label, o.UUID, o.Start, o.Time, o.Sink = r.Label, r.ID.UUID(), r.Start, r.Time, r.Sink
	if v >= Ext4 {
		var err error
		if wishes, err = fs.Aimed(Traits(), wishes); err != nil {
			return o, nil, err
		}
	}
	if wishes["checksums"].Word == "no" {
		o.FullTables = true
	}
	if _, asked := wishes["reserved"]; asked {
		o.ReservedMost = 0
	}
	if err := fs.Take(options(v), &o, wishes); err != nil {
		return o, nil, err
	}
	if err := checkDefaults(v.String(), o.MountDefaults, o.Journal != 0); err != nil {
		return o, nil, err
	}
	o.HashSeed, o.JournalUUID = r.Fresh(), r.Fresh()
	sequence := r.Fresh()
	o.FirstSequence = uint32(sequence[0])<<16 | uint32(sequence[1])<<8 | 1
	return o, wishes, nil
}

// checkDefaults holds options that the superblock gives against those that the driver takes:
// with one that it does not know it mounts without any of them.
func checkDefaults(typ, list string, journal bool) error {
	if list == "" {
		return nil
	}
	words := strings.Split(list, ",")
	table := mountopt.For("ext4", MountOptions())
	for _, w := range words {
		if row, ok := table.Find(w); !ok || row.To != mountopt.Own ||
			strings.ContainsFunc(w, func(r rune) bool { return r <= ' ' || r > '~' }) {
			return fmt.Errorf("%w: mount-defaults=%s: %s is no option of %s itself", fs.ErrSetting, list, w, typ)
		}
	}
	for _, f := range table.Check(words, func(n mountopt.Need) bool { return n != mountopt.Journal || journal }) {
		if f.Trouble.Refused() {
			return fmt.Errorf("%w: mount-defaults=%s: %s", fs.ErrSetting, list, f.Says)
		}
	}
	return nil
}

// PlanOrder works out the layout of what MakeOrder makes on a device.
func (v Variant) PlanOrder(size quantity.Bytes, geo block.Geometry, r fs.Order) (*Layout, error) {
	o, _, err := v.ordered(r)
	if err != nil {
		return nil, err
	}
	return Plan(size, geo, o)
}

// MakeOrder makes a file system of the variant with the settings that are wished for, and the
// defaults.
func (v Variant) MakeOrder(ctx context.Context, dev block.Device, r fs.Order) (fs.Made, error) {
	o, wishes, err := v.ordered(r)
	if err != nil {
		return fs.Made{}, err
	}
	l, err := Make(ctx, dev, o)
	if err != nil {
		return fs.Made{}, err
	}
	made, decided := fs.Made{Facts: l.Facts(), Note: l.note()}, l.decided()
	made.Tell(fs.Decided(options(v), &decided, wishes, l.hinted...), decided.idle)
	return made, nil
}

// decided are the options with what was chosen for them.
func (l *Layout) decided() Options {
	o := l.options
	o.Journal = quantity.Bytes(l.JournalBlocks) * l.BlockSize
	o.Inodes = int64(l.InodesPerGroup * l.Groups)
	if o.ReservedMost > 0 {
		o.Reserved = fs.Exactly(l.Reserved, l.Blocks, l.BlockSize)
	}
	return o
}

// idle reports whether a setting shapes nothing: there is no stripe, and inodes are said by
// their count.
func (o Options) idle(key string) bool {
	switch key {
	case "stripe-unit", "stripe-width":
		return o.Unit == 0 && o.Width == 0
	}
	return key == "inode-every"
}

// Values reads the settings back from a file system of the family.
func Values(dev block.Device) ([]fs.Value, error) {
	s, err := Read(dev)
	if err != nil || s.Incompat&incompatJournalDev != 0 {
		return nil, err
	}
	o, err := s.options(dev)
	if err != nil {
		return nil, err
	}
	return fs.Stored(options(o.Variant), &o), nil
}

// options are those that a file system has.
func (s *Superblock) options(dev block.Device) (Options, error) {
	d := s.disk
	o := Options{Variant: s.variant(), BlockSize: s.BlockSize, InodeSize: s.InodeSize, Inodes: int64(s.Inodes),
		Reserved:     fs.Exactly(uint64(s.Reserved), uint64(s.Blocks), s.BlockSize),
		ReservedUser: int64(d.ReserveUser), ReservedGroup: int64(d.ReserveGroup), Checksums: s.hasChecksum(),
		Wide:             s.Incompat&incompat64Bit != 0,
		LargeDirectories: s.Incompat&incompatLargeDir != 0, Seed: s.Incompat&incompatSeed != 0, MountDefaults: untilZero(d.MountOptions[:]),
		Unit: quantity.Bytes(d.Stride) * s.BlockSize, Width: quantity.Bytes(d.Stripe) * s.BlockSize,
		Checks: Checks{AfterMounts: int64(max(d.MaxMounts, 0)), Every: int64(d.CheckEvery), OnError: int64(d.OnErrors)}}
	if s.Incompat&incompatFlexBG != 0 {
		o.Flex = 1 << min(d.LogFlex, 31)
	}
	if s.Compat&compatJournal != 0 && d.JournalInode != 0 {
		n, err := s.inode(dev, uint64(d.JournalInode))
		if err != nil {
			return o, err
		}
		o.Journal = quantity.Bytes(wide(n.SizeLo, n.SizeHi))
	}
	return o, nil
}

// wish lays the settings down that lie in the superblock alone.
func (d *super) wish(o *Options) {
	d.OnErrors, d.MaxMounts, d.CheckEvery = uint16(o.Checks.OnError), -1, uint32(o.Checks.Every)
	if o.Checks.AfterMounts > 0 {
		d.MaxMounts = int16(o.Checks.AfterMounts)
	}
	d.ReserveUser, d.ReserveGroup = uint16(o.ReservedUser), uint16(o.ReservedGroup)
	d.Stride, d.Stripe = uint16(o.Unit/o.BlockSize), uint32(o.Width/o.BlockSize)
	d.MountOptions = [64]byte{}
	copy(d.MountOptions[:], o.MountDefaults)
}
