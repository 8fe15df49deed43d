package swap

import (
	"context"
	"fmt"
	"os"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/quantity"
)

func options() []fs.Option[Options] {
	return []fs.Option[Options]{{
		Setting: fs.Setting{Key: "page", Form: fs.Size, Only: []int64{4096, 8192, 16384, 32768, 65536},
			When: fs.AtMaking, Default: "of this machine",
			Meaning: "the page size of the kernel that will use it: a kernel with another one does not recognise it"},
		Get: func(o *Options) int64 { return int64(o.Page) },
		Set: func(o *Options, n int64) { o.Page = quantity.Bytes(n) },
	}, {
		Setting: fs.ForSetting(), // every Linux takes it, and no boot loader
		Get:     func(o *Options) int64 { return o.For },
		Set:     func(o *Options, n int64) { o.For = n },
	}}
}

// Settings lists what a new area can be made with.
func Settings() []fs.Setting { return fs.Settings(options()) }

// Values reads the settings of an area back.
func Values(dev block.Device) ([]fs.Value, error) {
	c, err := Probe(dev)
	if err != nil || c == nil {
		return nil, err
	}
	return fs.Stored(options(), &Options{Page: c.BlockSize}), nil
}

// MakeOrder makes an area with the settings that are wished for, and the defaults.
func MakeOrder(ctx context.Context, dev block.Device, r fs.Order) (fs.Made, error) {
	o := Options{Page: quantity.Bytes(os.Getpagesize()), Label: r.Label, UUID: r.ID.UUID(), Sink: r.Sink}
	if err := fs.Take(options(), &o, r.Wishes); err != nil {
		return fs.Made{}, err
	}
	l, err := Make(ctx, dev, o)
	if err != nil {
		return fs.Made{}, err
	}
	facts := []fs.Fact{{
		Name: "size",
		Value: fmt.Sprintf("%d pages × %d bytes = %d bytes (%v)", l.Pages, l.Page, quantity.Bytes(l.Pages)*l.Page,
			quantity.Bytes(l.Pages)*l.Page),
	}}
	if l.Left > 0 {
		facts = append(facts, fs.Fact{
			Name:  "left over",
			Value: fmt.Sprintf("%d bytes at the end are no page, or more than the kernel counts", l.Left),
		})
	}
	return fs.Made{Values: fs.Decided(options(), &o, r.Wishes), Facts: facts}, nil
}
