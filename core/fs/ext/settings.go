package ext

import (
	"context"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/quantity"
)

// options ties each setting to its field.
func options() []fs.Option[Options] {
	return []fs.Option[Options]{{
		Setting: fs.Setting{Key: "block", Form: fs.Size, Only: []int64{1024, 2048, 4096}, When: fs.AtMaking,
			Meaning: "the unit of space: a small one wastes less on small files, a large one is faster with large files",
			Default: "4KiB; 1KiB below 512MiB, unless a physical sector is larger"},
		Get: func(o *Options) int64 { return int64(o.BlockSize) },
		Set: func(o *Options, n int64) { o.BlockSize = quantity.Bytes(n) },
	}, {
		Setting: fs.Setting{Key: "reserved", Form: fs.Share, Range: [2]int64{0, 500}, When: fs.AtMaking | fs.Unmounted,
			Meaning: "the share of the space that only root may fill, so that services can still write when users cannot",
			Default: "5%"},
		Get: func(o *Options) int64 { return int64(o.ReservedTenths) },
		Set: func(o *Options, n int64) { o.ReservedTenths = int(n) },
	}, {
		Setting: fs.ForSetting(fs.ForBoot),
		Get:     func(o *Options) int64 { return o.For },
		Set:     func(o *Options, n int64) { o.For = n },
	}}
}

// Traits lists what is not known to every reader of ext4, by Documentation/filesystems/ext4
// of Linux, and as readers of boot loaders were tried.
func Traits() []fs.Trait {
	return []fs.Trait{
		{Name: "extents, groups of groups, block numbers of 64 bits", Since: fs.Version{Major: 2, Minor: 6}, Boot: true},
		{Name: "checksums of the metadata", Since: fs.Version{Major: 3, Minor: 5}, Boot: true},
	}
}

// Settings lists what a new ext4 can be made with.
func Settings() []fs.Setting { return fs.Settings(options()) }

// MakeOrder makes an ext4 with the settings that are wished for, and the defaults.
func MakeOrder(ctx context.Context, dev block.Device, r fs.Order) (fs.Made, error) {
	o := Options{Label: r.Label, UUID: r.ID.UUID(), ReservedTenths: DefaultReservedTenths, Time: r.Time, Sink: r.Sink}
	wishes, err := fs.Aimed(Traits(), r.Wishes)
	if err != nil {
		return fs.Made{}, err
	}
	if err := fs.Take(options(), &o, wishes); err != nil {
		return fs.Made{}, err
	}
	o.HashSeed, o.JournalUUID = r.Fresh(), r.Fresh()
	sequence := r.Fresh()
	o.FirstSequence = uint32(sequence[0])<<16 | uint32(sequence[1])<<8 | 1
	l, err := Make(ctx, dev, o)
	if err != nil {
		return fs.Made{}, err
	}
	var hinted []string
	if l.hinted {
		hinted = []string{"block"}
	}
	return fs.Made{Values: fs.Decided(options(), &l.options, wishes, hinted...), Facts: l.Facts()}, nil
}

// Values reads the settings back from a file system of the family. A share that lies
// between two tenths of a percent is rounded.
func Values(dev block.Device) ([]fs.Value, error) {
	s, err := Read(dev)
	if err != nil {
		return nil, err
	}
	tenths := (uint64(s.Reserved)*1000 + uint64(s.Blocks)/2) / max(1, uint64(s.Blocks)) // below 2^48 blocks
	return fs.Stored(options(), &Options{BlockSize: s.BlockSize, ReservedTenths: int(tenths)}), nil
}
