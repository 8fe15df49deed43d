package xfs

import (
	"context"
	"fmt"
	"slices"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/quantity"
)

// options ties each setting to its field.
func options() []fs.Option[Options] {
	return slices.Concat(unitOptions(), logOptions(), shareOptions(), featureOptions())
}

// The units of sizes in the tables below.
const (
	k = 1 << 10
	m = 1 << 20
	g = 1 << 30
)

// size and count are settings that are chosen when it is made, with the field that each fills.
func size(s fs.Setting, field func(*Options) *quantity.Bytes) fs.Option[Options] {
	s.Form, s.When = fs.Size, fs.AtMaking
	return fs.Option[Options]{
		Setting: s,
		Get:     func(o *Options) int64 { return int64(*field(o)) },
		Set:     func(o *Options, n int64) { *field(o) = quantity.Bytes(n) },
	}
}

func count(s fs.Setting, field func(*Options) *int64) fs.Option[Options] {
	s.When = fs.AtMaking
	return fs.Option[Options]{
		Setting: s,
		Get:     func(o *Options) int64 { return *field(o) },
		Set:     func(o *Options, n int64) { *field(o) = n },
	}
}

// unitOptions are of what it is made: blocks, sectors, inodes and groups.
func unitOptions() []fs.Option[Options] {
	return []fs.Option[Options]{
		size(fs.Setting{
			Key:     "block",
			Only:    []int64{1 * k, 2 * k, 4 * k},
			Default: "4KiB",
			Meaning: "the unit of space: a small one wastes less on small files, a large one is faster with large files",
		}, func(o *Options) *quantity.Bytes { return &o.Block }),
		size(fs.Setting{
			Key:     "sector",
			Only:    []int64{512, 4 * k},
			Default: "the device's physical one",
			Meaning: "what the device writes whole: headers and the log keep to it",
		}, func(o *Options) *quantity.Bytes { return &o.Sector }),
		size(fs.Setting{
			Key:     "inode-size",
			Only:    []int64{512, 1 * k, 2 * k},
			Default: "512B",
			Meaning: "what each file takes besides its data: a large one has space for attributes and small directories; at most half a block",
		}, func(o *Options) *quantity.Bytes { return &o.Inode }),
		count(fs.Setting{
			Key:     "group-count",
			Form:    fs.Count,
			Range:   [2]int64{1, 512},
			Default: "4; 16 from 64GiB on, on flash and arrays",
			Meaning: "into how many groups it is divided: in each something is written at the same time",
		}, func(o *Options) *int64 { return &o.Groups }),
		size(fs.Setting{
			Key:     "group-size",
			Range:   [2]int64{32 * m, 1 << 40},
			Shapes:  true,
			Default: "by their count",
			Meaning: "how large a group is, instead of how many there are",
		}, func(o *Options) *quantity.Bytes { return &o.GroupSize }),
	}
}

// logOptions are of the log, and of the array that it may lie on.
func logOptions() []fs.Option[Options] {
	return []fs.Option[Options]{
		size(fs.Setting{
			Key:     "log",
			Range:   [2]int64{20 * m, 2*g - 10*m},
			Default: "1/512 of the size, 32MiB to 512MiB; 20MiB where it is small",
			Meaning: "the log, in which changes stand before they are carried out",
		}, func(o *Options) *quantity.Bytes { return &o.Log }),
		size(fs.Setting{
			Key:     "log-unit",
			Only:    []int64{4 * k, 8 * k, 16 * k, 32 * k, 64 * k, 128 * k, 256 * k},
			Default: "the stripe unit up to 256KiB, else 32KiB with a stripe, none without",
			Meaning: "size of a log write",
		}, func(o *Options) *quantity.Bytes { return &o.LogUnit }),
		size(fs.Setting{
			Key:     "stripe-unit",
			Range:   [2]int64{4 * k, 64 * m},
			Default: "the device's, or the width",
			Meaning: "what an array writes to one of its members before it goes on with the next",
		}, func(o *Options) *quantity.Bytes { return &o.Unit }),
		size(fs.Setting{
			Key:     "stripe-width",
			Range:   [2]int64{4 * k, 1 * g},
			Default: "the device's, or the unit",
			Meaning: "a stripe over all members of an array that hold data",
		}, func(o *Options) *quantity.Bytes { return &o.Width }),
	}
}

// shareOptions are of files and directories, and for whom it is made.
func shareOptions() []fs.Option[Options] {
	return []fs.Option[Options]{
		count(fs.Setting{
			Key:     "inode-share",
			Form:    fs.Share,
			Range:   [2]int64{0, 1000},
			Default: "25%; 5% above 1TiB, 1% above 50TiB",
			Meaning: "how much of the space files may take for what they take besides their data; 0% is no limit",
		}, func(o *Options) *int64 { return &o.InodeShare }),
		size(fs.Setting{
			Key:     "directory-block",
			Only:    []int64{4 * k, 8 * k, 16 * k, 32 * k, 64 * k},
			Default: "a block",
			Meaning: "the unit of directories: a large one is faster with very many names in one",
		}, func(o *Options) *quantity.Bytes { return &o.Directory }),
		count(fs.Setting{
			Key:     "root-user",
			Form:    fs.Count,
			Range:   [2]int64{0, 1<<32 - 2},
			Shapes:  true,
			Default: "0",
			Meaning: "owner (UID) of the root directory",
		}, func(o *Options) *int64 { return &o.RootUser }),
		count(fs.Setting{
			Key:     "root-group",
			Form:    fs.Count,
			Range:   [2]int64{0, 1<<32 - 2},
			Shapes:  true,
			Default: "0",
			Meaning: "group (GID) of the root directory",
		}, func(o *Options) *int64 { return &o.RootGroup }),
		count(fs.Setting{
			Key:     "root-mode",
			Form:    fs.Mode,
			Range:   [2]int64{0, 0o7777},
			Shapes:  true,
			Default: "755",
			Meaning: "permissions of the root directory, octal",
		}, func(o *Options) *int64 { return &o.RootMode }),
		count(fs.ForSetting(fs.ForBoot), func(o *Options) *int64 { return &o.For }),
	}
}

// featureOptions are those that can be left out.
func featureOptions() (list []fs.Option[Options]) {
	for _, f := range []struct {
		key, usual, meaning string
		field               func(*Options) *bool
	}{
		{
			"free-inode-tree", "yes", "a tree of the free inodes: new files are made faster in a full file system",
			func(o *Options) *bool { return &o.FreeInodeTree },
		},
		{
			"sparse-inodes", "yes", "inodes in small pieces, so that files can still be made where the space is in pieces",
			func(o *Options) *bool { return &o.SparseInodes },
		},
		{
			"reverse-map", "yes", "a record of the owner of each block, with which the kernel can check and repair itself",
			func(o *Options) *bool { return &o.ReverseMap },
		},
		{"shared-blocks", "yes", "files can share blocks: copies that take no space", func(o *Options) *bool { return &o.SharedBlocks }},
		{
			"inode-counts", "yes, with free-inode-tree", "counts of the trees of inodes: it is mounted faster",
			func(o *Options) *bool { return &o.InodeCounts },
		},
		{"late-times", "yes", "times up to 2486, instead of 2038", func(o *Options) *bool { return &o.LateTimes }},
		{
			"large-extent-counts", "no; yes for Linux 6.6 and newer", "files in more than two thousand million pieces",
			func(o *Options) *bool { return &o.LargeExtentCounts },
		},
	} {
		s := fs.YesNo(f.key)
		s.Default, s.Meaning, s.When = f.usual, f.meaning, fs.AtMaking
		list = append(list, fs.Option[Options]{Setting: s, Get: func(o *Options) int64 {
			if *f.field(o) {
				return 1
			}
			return 0
		}, Set: func(o *Options, n int64) { *f.field(o) = n == 1 }})
	}
	return list
}

// Settings lists what a new XFS can be made with.
func Settings() []fs.Setting { return fs.Settings(options()) }

// Traits lists what not every reader of XFS knows. Boot loaders lag behind by years: what
// they are trusted with is what Linux 5.4 knew.
func Traits() []fs.Trait {
	since := func(major, minor int) fs.Version { return fs.Version{Major: major, Minor: minor} }
	return []fs.Trait{
		{Name: "checksums of the metadata, types in directories", Since: since(3, 13), Boot: true},
		{Name: "a tree of free inodes", Key: "free-inode-tree", Since: since(3, 16), Boot: true},
		{Name: "inodes in small pieces", Key: "sparse-inodes", Since: since(4, 2), Boot: true},
		{Name: "the reverse map", Key: "reverse-map", Since: since(4, 8), Boot: true},
		{Name: "shared blocks", Key: "shared-blocks", Since: since(4, 9), Boot: true},
		{Name: "counts of the trees of inodes", Key: "inode-counts", Since: since(5, 10)},
		{Name: "times after 2038", Key: "late-times", Since: since(5, 10)},
		{Name: "large counts of extents", Key: "large-extent-counts", Since: since(5, 19), Off: true, Usual: since(6, 6)},
	}
}

// ordered are the options that an order amounts to, and the wishes with what follows from
// their reader.
func ordered(r fs.Order) (Options, fs.Wishes, error) {
	o := Options{InodeShare: -1, FreeInodeTree: true, SparseInodes: true, ReverseMap: true, SharedBlocks: true,
		InodeCounts: true, LateTimes: true, RootMode: 0o755,
		Label: r.Label, UUID: r.ID.UUID(), Flash: r.Flash, Start: r.Start, Time: r.Time, Sink: r.Sink}
	wishes, err := fs.Aimed(Traits(), r.Wishes)
	if err != nil {
		return o, nil, err
	}
	if wishes["free-inode-tree"].Word == "no" {
		o.InodeCounts = false
	}
	if err := fs.Take(options(), &o, wishes); err != nil {
		return o, nil, err
	}
	if o.InodeShare > 0 { // tenths of a percent
		if o.InodeShare%10 != 0 {
			return o, nil, fmt.Errorf("%w: inode-share=%s: XFS keeps whole percents", fs.ErrSetting, wishes["inode-share"].Word)
		}
		o.InodeShare /= 10
	}
	o.MetaUUID = o.UUID
	if r.Again {
		o.MetaUUID = r.Fresh()
	}
	for i := range 2 {
		id := r.Fresh()
		copy(o.Seed[16*i:], id[:])
	}
	return o, wishes, nil
}

// PlanOrder works out the layout of what MakeOrder makes on a device.
func PlanOrder(size quantity.Bytes, geo block.Geometry, r fs.Order) (*Layout, error) {
	o, _, err := ordered(r)
	if err != nil {
		return nil, err
	}
	return Plan(size, geo, o)
}

// MakeOrder makes an XFS with the settings that are wished for, and the defaults.
func MakeOrder(ctx context.Context, dev block.Device, r fs.Order) (fs.Made, error) {
	o, wishes, err := ordered(r)
	if err != nil {
		return fs.Made{}, err
	}
	l, err := Make(ctx, dev, o)
	if err != nil {
		return fs.Made{}, err
	}
	made := fs.Made{Facts: l.Facts()}
	decided := l.decided()
	made.Tell(fs.Decided(options(), &decided, wishes, l.hinted...), decided.idle)
	return made, nil
}

// decided are the options with what was chosen for them.
func (l *Layout) decided() Options {
	o := l.options
	o.Block, o.Sector, o.Inode, o.LogUnit = l.Block, l.Sector, l.Inode, l.logUnit
	o.Groups, o.GroupSize = int64(l.Groups), quantity.Bytes(l.GroupBlocks)*l.Block
	o.Log = quantity.Bytes(l.LogBlocks) * l.Block
	o.InodeShare = 10 * l.inodeShare()
	o.Directory = choose(o.Directory, l.Block)
	return o
}

// idle reports whether a setting shapes nothing: there is no stripe, and groups are said by
// their count.
func (o Options) idle(key string) bool {
	switch key {
	case "stripe-unit", "stripe-width":
		return o.Unit == 0
	case "log-unit":
		return o.LogUnit == 0
	}
	return key == "group-size"
}

// Facts are the figures of a layout, with their arithmetic.
func (l *Layout) Facts() []fs.Fact {
	bytes := func(n uint64) quantity.Bytes { return quantity.Bytes(n) * l.Block }
	size, last := bytes(l.Blocks), l.sizeOf(l.Groups-1)
	groups := fmt.Sprintf("%d × %d blocks", l.Groups, l.GroupBlocks)
	if last != l.GroupBlocks {
		groups = fmt.Sprintf("%d × %d + %d blocks", l.Groups-1, l.GroupBlocks, last)
	}
	facts := []fs.Fact{
		{Name: "blocks", Value: fmt.Sprintf("%d × %d bytes = %d bytes (%v)", l.Blocks, l.Block, size, size)},
		{Name: "groups", Value: groups},
		{Name: "log", Value: fmt.Sprintf("%d blocks = %v, in group %d", l.LogBlocks, bytes(l.LogBlocks), l.LogGroup)},
		{
			Name:  "free",
			Value: fmt.Sprintf("%d blocks = %v; of them the kernel keeps about %v for itself", l.Free(), bytes(l.Free()), bytes(l.kept())),
		},
	}
	if l.options.MetaUUID != l.options.UUID {
		facts = append(facts, fs.Fact{
			Name:  "within",
			Value: l.options.MetaUUID.String() + ": the metadata carries an identifier of its own, so that old blocks are not mistaken for new ones",
		})
	}
	if l.Left > 0 {
		facts = append(facts, fs.Fact{
			Name:  "left over",
			Value: fmt.Sprintf("%v at the end: less than a block, or than a group that is of use", l.Left),
		})
	}
	return facts
}

// kept is about how many blocks the kernel sets aside in each group for the trees to grow,
// and of all for when nothing else is left (xfs_fs_reserve_ag_blocks and
// xfs_default_resblks of Linux).
func (l *Layout) kept() (sum uint64) {
	tree := func(blocks, record uint64) (n uint64) {
		each := (uint64(l.Block) - 56) / record / 2
		for blocks > 1 {
			blocks = (blocks + each - 1) / each
			n += blocks
		}
		return n
	}
	if l.options.ReverseMap {
		sum += max(l.GroupBlocks/100, tree(l.GroupBlocks, 24))
	}
	if l.options.SharedBlocks {
		sum += tree(l.GroupBlocks, 12)
	}
	if l.options.FreeInodeTree {
		sum += tree(l.GroupBlocks/l.chunk, 16)
	}
	const most = 8192
	return sum*l.Groups + min(l.Blocks/20, most)
}
