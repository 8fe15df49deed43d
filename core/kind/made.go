package kind

import (
	"context"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/fs/ext"
	"fundus/core/fs/fat"
	"fundus/core/fs/swap"
	"fundus/core/fs/xfs"
	"fundus/core/progress"
	"fundus/core/quantity"
)

// The rows of the kinds that Fundus makes: a field a line, so that a change of one is seen.

func extKind() Kind {
	return Kind{
		Name:      "ext",
		Types:     []string{"ext2", "ext3", "ext4"},
		Makes:     extMakers(),
		Values:    ext.Values,
		Probe:     ext.Probe,
		AtMount:   ext.AtMount,
		Fields:    ext.Fields,
		SetLabel:  ext.SetLabel,
		FitLabel:  ext.Fit,
		Relabels:  true,
		SetID:     wideID(ext.SetUUID),
		LiveID:    ext.ChangesUUID,
		Adjust:    ext.Adjust,
		Alike:     ext.Alike,
		Untouched: []string{"noload"},
		// What is set aside in a map of blocks reads as anything: it has to be written.
		SwapFiles: []SwapFile{{Type: "ext4"}, {Type: "ext3", Written: true}, {Type: "ext2", Written: true}},
		Exchanges: map[string]Exchange{"ext4": Ranges},
		Resizing:  &Resizing{Reach: ext.Reach, Resize: ext.Grow},
		Growing:   &Growing{[]string{"ext4", "ext3"}, GrowBlocks, ext.ReachLive},
		Simulation: &Simulation{
			Mounted:    ext.MarkMounted,
			Unmounted:  ext.MarkUnmounted,
			Labelled:   ext.MarkLabelled,
			Identified: wideID(ext.MarkIdentified),
			Grown:      ext.MarkGrown,
		},
		Marks:   []Mark{{1080, "\x53\xEF"}},
		Copies:  ext.Copies,
		Remains: ext.Remains,
		Begun:   ext.Begun,
		AtOther: &AtOther{"sb", ext.AtOther},
		Options: &Mounts{[]string{"ext4", "ext3", "ext2"}, ext.MountOptions},
	}
}

func xfsKind() Kind {
	return Kind{
		Name:      "xfs",
		Makes:     []Maker{{Word: "xfs", ID: fs.Wide, Settings: xfs.Settings, Traits: xfs.Traits, Make: xfs.MakeOrder}},
		Values:    xfs.Values,
		Probe:     xfs.Probe,
		AtMount:   xfs.AtMount,
		Fields:    xfs.Fields,
		SetLabel:  xfs.SetLabel,
		FitLabel:  xfs.Fit,
		Relabels:  true,
		SetID:     wideID(xfs.SetUUID),
		Alone:     "nouuid",
		Untouched: []string{"norecovery"},
		SwapFiles: []SwapFile{{Type: "xfs"}},
		Exchanges: map[string]Exchange{"xfs": Whole},
		Growing:   &Growing{[]string{"xfs"}, GrowData, xfs.Reach},
		NeverLess: "nobody makes an XFS smaller: what is in it can be copied into a smaller one",
		Marks:     []Mark{{0, "XFSB"}},
		Copies:    xfs.Copies,
		Options:   &Mounts{[]string{"xfs"}, xfs.MountOptions},
	}
}

func fatKind() Kind {
	return Kind{
		Name:     "fat",
		Makes:    []Maker{{Word: "fat", ID: fs.Serial, Settings: fat.Settings, Traits: fs.NoTraits, Make: fat.MakeOrder, Variant: fat.Variant}},
		Values:   fat.Values,
		Probe:    fat.Probe,
		AtMount:  fat.AtMount,
		Fields:   fat.Fields,
		SetLabel: fat.SetLabel,
		FitLabel: fat.Fit,
		SetID:    func(dev block.Device, id fs.ID) error { return fat.SetSerial(dev, id.Number()) },
		Marks:    []Mark{{54, "FAT1"}, {82, "FAT32"}},
		Copies:   fat.Copies,
		Options:  &Mounts{[]string{"vfat", "msdos"}, fat.MountOptions},
	}
}

func swapKind() Kind {
	return Kind{
		Name:     "swap",
		Makes:    []Maker{{Word: "swap", ID: fs.Wide, Settings: swap.Settings, Traits: fs.NoTraits, Make: swap.MakeOrder}},
		Values:   swap.Values,
		Probe:    swap.Probe,
		Fields:   swap.Fields,
		SetLabel: swap.SetLabel,
		FitLabel: swap.Fit,
		SetID:    wideID(func(dev block.Device, id uuid.UUID) error { return swap.SetUUID(dev, id) }),
		Resizing: &Resizing{
			Reach: swap.Reach,
			Resize: func(_ context.Context, dev block.Device, to quantity.Bytes, _ progress.Sink) (quantity.Bytes, error) {
				return swap.Resize(dev, to)
			},
			Shrinks: true,
		},
		// The signature ends the first page, which is the kernel's: of 4 KiB or of 64.
		Marks:   []Mark{{4086, "SWAPSPACE2"}, {65526, "SWAPSPACE2"}},
		Options: &Mounts{[]string{"swap"}, swap.MountOptions},
	}
}

// extMakers are the variants of one format, the usual one first.
func extMakers() (list []Maker) {
	for _, v := range []ext.Variant{ext.Ext4, ext.Ext3, ext.Ext2} {
		m := Maker{Word: v.String(), ID: fs.Wide, Settings: v.Settings, Traits: fs.NoTraits, Make: v.MakeOrder}
		if v == ext.Ext4 {
			m.Traits = ext.Traits
		}
		list = append(list, m)
	}
	return list
}

// wideID is a change of a UUID as one of an identifier.
func wideID(set func(block.Device, uuid.UUID) error) func(block.Device, fs.ID) error {
	return func(dev block.Device, id fs.ID) error { return set(dev, id.UUID()) }
}
