package task

import (
	"context"

	"fundus/core/inventory"
	"fundus/core/target"
)

// Device is what a word of a request names, on the machine as it would be. Errors: those of
// target.Resolve.
func (p *Planner) Device(ctx context.Context, word string) (*inventory.Inventory, inventory.Node, error) {
	return p.named(ctx, word, target.Resolve)
}

// Disk is so for a whole disk; see target.Disk.
func (p *Planner) Disk(ctx context.Context, word string) (*inventory.Inventory, inventory.Node, error) {
	return p.named(ctx, word, target.Disk)
}

// Partition is so for a partition; see target.Partition.
func (p *Planner) Partition(ctx context.Context, word string) (*inventory.Inventory, inventory.Node, error) {
	return p.named(ctx, word, target.Partition)
}

func (p *Planner) named(ctx context.Context, word string, find func(*inventory.Inventory, string) (inventory.Node, error)) (*inventory.Inventory, inventory.Node, error) {
	v, err := p.Now(ctx)
	if err != nil {
		return nil, inventory.Node{}, err
	}
	n, err := find(v, word)
	return v, n, err
}
