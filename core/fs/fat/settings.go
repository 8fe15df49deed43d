package fat

import (
	"context"
	"encoding/binary"
	"fmt"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/quantity"
)

// options ties each setting to its field.
func options() []fs.Option[Options] {
	number := func(get func(*Options) *int) (func(*Options) int64, func(*Options, int64)) {
		return func(o *Options) int64 { return int64(*get(o)) }, func(o *Options, n int64) { *get(o) = int(n) }
	}
	yes := func(get func(*Options) *bool) (func(*Options) int64, func(*Options, int64)) {
		return func(o *Options) int64 {
				if *get(o) {
					return 1
				}
				return 0
			}, func(o *Options, n int64) {
				*get(o) = n == 1
			}
	}
	add := func(s fs.Setting, get func(*Options) int64, set func(*Options, int64)) fs.Option[Options] {
		s.When = fs.AtMaking
		return fs.Option[Options]{Setting: s, Get: get, Set: set}
	}
	bits, setBits := number(func(o *Options) *int { return &o.Bits })
	tables, setTables := number(func(o *Options) *int { return &o.Tables })
	entries, setEntries := number(func(o *Options) *int { return &o.RootEntries })
	align, setAlign := yes(func(o *Options) *bool { return &o.Align })
	alignSetting := fs.YesNo("align")
	alignSetting.Shapes = true
	alignSetting.Meaning, alignSetting.Default = "whether the clusters of FAT32 begin on a step of the disk, which flash writes faster", "yes"
	return []fs.Option[Options]{
		add(fs.Setting{Key: "bits", Form: fs.Count, Only: []int64{12, 16, 32},
			Default: "by the size: FAT12 below 4MiB, FAT16 up to 512MiB, FAT32 above",
			Meaning: "which FAT: how many bits an entry of the table has"}, bits, setBits),
		add(fs.Setting{Key: "cluster", Form: fs.Size, Only: []int64{512, 1024, 2048, 4096, 8192, 16384, 32768, 65536},
			Default: "by the size: 2KiB to 32KiB",
			Meaning: "the unit of space: a small one wastes less on small files; above 32KiB not every system reads it"},
			func(o *Options) int64 { return int64(o.Cluster) }, func(o *Options, n int64) { o.Cluster = quantity.Bytes(n) }),
		add(fs.Setting{
			Key:     "tables",
			Form:    fs.Count,
			Only:    []int64{1, 2},
			Default: "2",
			Meaning: "how many copies of the table there are",
		}, tables, setTables),
		add(fs.Setting{
			Key:     "root-entries",
			Form:    fs.Count,
			Range:   [2]int64{16, 65520},
			Default: "512",
			Meaning: "how many names the root directory of FAT12 and FAT16 can have",
		}, entries, setEntries),
		add(alignSetting, align, setAlign),
		add(fs.Setting{
			Key:     "hidden",
			Form:    fs.Count,
			Range:   [2]int64{0, 1<<32 - 1},
			Default: "the sectors before the partition",
			Meaning: "its place according to the boot sector, for boot code",
		},
			func(o *Options) int64 { return int64(o.Hidden) }, func(o *Options, n int64) { o.Hidden = uint32(n) }),
		add(fs.ForSetting(fs.ForBoot, fs.ForFirmware), func(o *Options) int64 { return o.For }, func(o *Options, n int64) { o.For, o.Firmware = n, n == fs.ReaderNumber(fs.ForFirmware) }),
	}
}

// Settings lists what a new FAT can be made with.
func Settings() []fs.Setting { return fs.Settings(options()) }

// ordered are the options that an order amounts to.
func ordered(r fs.Order, sector int64) (Options, error) {
	label, err := Fit(r.Label)
	if err != nil {
		return Options{}, err
	}
	o := Options{Tables: 2, RootEntries: 512, Align: true, Label: label, Start: r.Start, Time: r.Time, Sink: r.Sink}
	if first := uint64(r.Start) / uint64(max(sector, 512)); first < 1<<32 {
		o.Hidden = uint32(first)
	}
	if err := fs.Take(options(), &o, r.Wishes); err != nil {
		return Options{}, err
	}
	o.Serial = r.ID.Number()
	return o, nil
}

// Variant is the kind that an order becomes on a device: FAT12, FAT16 or FAT32.
func Variant(size quantity.Bytes, geo block.Geometry, r fs.Order) (string, error) {
	o, err := ordered(r, geo.Logical)
	if err != nil {
		return "", err
	}
	l, err := Plan(size, geo, o)
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("FAT%d", l.Bits), nil
}

// MakeOrder makes a FAT with the settings that are wished for, and the defaults.
func MakeOrder(ctx context.Context, dev block.Device, r fs.Order) (fs.Made, error) {
	o, err := ordered(r, dev.Geometry().Logical)
	if err != nil {
		return fs.Made{}, err
	}
	l, err := Make(ctx, dev, o)
	if err != nil {
		return fs.Made{}, err
	}
	l.options.Bits, l.options.Cluster = l.Bits, quantity.Bytes(l.Per)*quantity.Bytes(l.Sector)
	out := fs.Made{Facts: l.Facts()}
	for _, v := range fs.Decided(options(), &l.options, r.Wishes) {
		if v.By == fs.ByDefault && l.idle(v.Key) {
			out.Idle = append(out.Idle, v.Key)
			continue
		}
		out.Values = append(out.Values, v)
	}
	return out, nil
}

// idle reports whether a setting shapes nothing in this layout: the root directory of FAT32
// grows as any other, and the clusters of FAT12 and FAT16 are not aligned.
func (l Layout) idle(key string) bool {
	wide := l.Bits == 32
	return key == "root-entries" && wide || key == "align" && !wide
}

// Values reads the settings back that a FAT stores.
func Values(dev block.Device) ([]fs.Value, error) {
	v, f, err := open(dev)
	if err != nil || f == nil {
		return nil, err
	}
	le := binary.LittleEndian
	o := Options{
		Bits:        16,
		Cluster:     quantity.Bytes(v.cluster),
		Tables:      int(f.boot[tables]),
		RootEntries: int(le.Uint16(f.boot[rootEntries:])),
		Hidden:      le.Uint32(f.boot[28:]),
	}
	switch {
	case f.wide:
		o.Bits = 32
	case v.clusters < border16:
		o.Bits = 12
	}
	var out []fs.Value
	for _, s := range options() {
		if !s.Shapes && !(f.wide && s.Key == "root-entries") {
			out = append(out, fs.Value{Key: s.Key, Word: s.Word(s.Get(&o))})
		}
	}
	return out, nil
}

// Facts are the figures of a layout, with their arithmetic.
func (l *Layout) Facts() []fs.Fact {
	sector, cluster := quantity.Bytes(l.Sector), quantity.Bytes(l.Per)*quantity.Bytes(l.Sector)
	size := quantity.Bytes(l.Total) * sector
	root := fmt.Sprintf(" + %d of the root directory", l.Root)
	free := l.Clusters
	if l.Bits == 32 {
		root, free = "", l.Clusters-1
	}
	facts := []fs.Fact{
		{
			Name:  "kind",
			Value: fmt.Sprintf("FAT%d: %d clusters × %d bytes = %v", l.Bits, l.Clusters, cluster, quantity.Bytes(l.Clusters)*cluster),
		},
		{
			Name: "sectors",
			Value: fmt.Sprintf("%d reserved + %d × %d of tables%s + %d × %d = %d", l.Reserved, l.options.Tables,
				l.Table, root, l.Clusters, l.Per, l.DataStart()+l.Clusters*l.Per),
		},
		{Name: "size", Value: fmt.Sprintf("%d sectors × %d bytes = %d bytes (%v)", l.Total, l.Sector, size, size)},
		{Name: "free", Value: fmt.Sprintf("%d clusters = %v; a file has 4 GiB - 1 byte at most", free, quantity.Bytes(free)*cluster)},
	}
	if l.Left > 0 {
		facts = append(facts, fs.Fact{
			Name:  "left over",
			Value: fmt.Sprintf("%d sectors at the end: with them readers would differ about its kind", l.Left),
		})
	}
	return facts
}
