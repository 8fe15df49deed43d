package content

import (
	"fmt"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/refused"
)

// checkDiscard refuses a discard that the device cannot do; an image gets holes.
func (r *Format) checkDiscard(v *inventory.Inventory, n inventory.Node) error {
	disk, _ := v.Node(n.Disk())
	if !r.Discard || disk.Form == inventory.Image || disk.Hardware.Discard > 0 {
		return nil
	}
	return refused.As(refused.KindCannot, fmt.Errorf("--discard: %s says that it cannot discard; without it the same file system is made",
		disk.Name))
}

// noting notes what is written to a device: a new file system needs that, zeros too, and
// nothing else that lies there.
type noting struct {
	block.Device
	spans []extent.Span // of bytes, as they were written
}

// WriteAt implements block.Device.
func (d *noting) WriteAt(p []byte, off int64) (int, error) {
	d.note(off, int64(len(p)))
	return d.Device.WriteAt(p, off)
}

// Take passes bytes on that were given away.
func (d *noting) Take(p []byte, off int64) error {
	d.note(off, int64(len(p)))
	return block.Give(d.Device, p, off)
}

// WriteZeroes implements block.Device.
func (d *noting) WriteZeroes(off, n int64) error {
	d.note(off, n)
	return d.Device.WriteZeroes(off, n)
}

func (d *noting) note(off, n int64) {
	s := extent.Span{Start: uint64(off), Count: uint64(n)}
	if last := len(d.spans) - 1; last >= 0 && d.spans[last].End() == s.Start {
		d.spans[last].Count += s.Count
		return
	}
	d.spans = append(d.spans, s)
}

// rest lists what was not written of the first bytes.
func (d *noting) rest(size quantity.Bytes) []extent.Span {
	return extent.Gaps(extent.Span{Count: uint64(size)}, d.spans)
}
