package live

import (
	"context"
	"errors"

	"fundus/core/block/file"
	"fundus/core/inventory"
	"fundus/internal/machine"
	"fundus/internal/machine/image"
)

// mostDiscarded is how many bytes the kernel is asked to discard at once: it does not come
// back before they all are.
const mostDiscarded = 8 << 30

// discard tells the device which bytes of the node nobody needs.
func (m *Machine) discard(ctx context.Context, v *inventory.Inventory, a machine.Action) error {
	n, _ := v.Node(a.Device)
	start, dev, err := uint64(0), (*file.File)(nil), error(nil)
	if disk, _ := v.Node(n.Disk()); disk.Form == inventory.Image {
		start = uint64(n.Start)
		dev, err = image.Claim(disk.Name, disk.Geometry)
	} else if dev, err = file.OpenExclusive(n.Path, n.Geometry); err != nil {
		err = m.claimError(n.Name, err)
	}
	if err != nil {
		return err
	}
	for _, s := range a.Spans {
		for at := s.Start; at < s.End() && err == nil; at += mostDiscarded {
			if err = ctx.Err(); err == nil {
				err = dev.Discard(int64(start+at), int64(min(mostDiscarded, s.End()-at)))
			}
		}
	}
	return errors.Join(err, dev.Close())
}
