package task

import (
	"context"

	"fundus/core/block"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/quantity"
)

// Under looks at a span of a disk, in bytes, as if it were a partition.
func (p *Planner) Under(ctx context.Context, disk inventory.Node, start, size quantity.Bytes) (inventory.Node, error) {
	dev, err := p.Stage.Open(ctx, disk.Name)
	if err != nil {
		return inventory.Node{}, err
	}
	part, err := block.NewSlice(dev, int64(start), int64(size))
	if err != nil {
		return inventory.Node{}, err
	}
	n := disk
	n.Parent, n.Form, n.Start, n.Size = disk.Name, inventory.Partition, start, size
	n.Name = "the free space of " + disk.Name
	n.Contents, err = kind.Probe(part)
	n.Table, n.Zeros = nil, err == nil && len(n.Contents) == 0 && block.Blank(part)
	return n, err
}
