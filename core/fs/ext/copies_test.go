package ext

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/quantity"
)

// TestRemains: with the first superblock gone, and with the first copy gone too, what the others
// say is what was asked for when it was made, and the mount option leads to it. On a blank
// device, on one that is whole but too small for a copy, and where a copy lies that belongs
// elsewhere, nothing is made up.
func TestRemains(t *testing.T) {
	id := uuid.MustParse("5eed0000-0000-4000-8000-00000000fe12")
	for _, c := range []struct {
		v           Variant
		block, size quantity.Bytes
		gone        []int64 // copies that are gone beside the first superblock
		copies      int
	}{
		{Ext2, quantity.KiB, 40 * quantity.MiB, nil, 2}, {Ext3, 2 * quantity.KiB, 200 * quantity.MiB, nil, 3}, {Ext4, 4 * quantity.KiB, 300 * quantity.MiB, nil, 1},
		{Ext4, 4 * quantity.KiB, quantity.GiB, []int64{128 << 20}, 3},
		{Ext4, 4 * quantity.KiB, 100 * quantity.MiB, nil, 0}, {Ext2, quantity.KiB, 20 * quantity.MiB, []int64{8193 << 10}, 0},
	} {
		t.Run(fmt.Sprint(c.v, c.block, c.size, len(c.gone)), func(t *testing.T) {
			dev := block.NewMemory(int64(c.size), block.DefaultGeometry)
			o := Usual(c.v).With("herbarium", id, time.Unix(1, 0))
			o.BlockSize = c.block
			if _, err := Make(t.Context(), dev, o); err != nil {
				t.Fatal(err)
			}
			whole, err := Probe(dev)
			if err != nil || whole == nil {
				t.Fatal(whole, err)
			}
			for _, at := range append(c.gone, superOffset) {
				if err := dev.WriteZeroes(at, superSize); err != nil {
					t.Fatal(err)
				}
			}
			r := Remains(dev)
			if c.copies == 0 {
				if r != nil {
					t.Errorf("made up: %+v", r)
				}
				return
			}
			if r == nil || len(r.Copies) != c.copies || r.Looked != c.copies+len(c.gone) || r.Content.State != fs.Damaged {
				t.Fatalf("%+v", r)
			}
			if g := r.Content; g.UUID != whole.UUID || g.Label != whole.Label || g.Kind != whole.Kind || g.Size != whole.Size {
				t.Errorf("%s, and it was %s", g.Words(), whole.Words())
			}
			got, err := AtOther(dev, strings.TrimPrefix(r.Option, "sb="))
			if err != nil || got.UUID != whole.UUID || !got.MountsAs(c.v.String()) {
				t.Errorf("%s: %+v, %v", r.Option, got, err)
			}
			if _, err := AtOther(dev, "1"); err == nil {
				t.Error("the first superblock is gone, and sb=1 finds it")
			}
			// The same bytes somewhat further on belong to another place.
			shifted := block.NewMemory(int64(c.size), block.DefaultGeometry)
			b, err := block.ReadSized(dev, r.Copies[0], superSize, superSize)
			if err == nil {
				err = block.WriteBytes(shifted, b, r.Copies[0]+1<<20)
			}
			if r := Remains(shifted); err != nil || r != nil {
				t.Errorf("a copy of another place: %+v, %v", r, err)
			}
		})
	}
	if r := Remains(block.NewMemory(1<<40, block.DefaultGeometry)); r != nil {
		t.Errorf("blank: %+v", r)
	}
}
