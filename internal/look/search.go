package look

import (
	"context"

	"fundus/core/inventory"
	"fundus/core/lost"
	"fundus/core/progress"
	"fundus/core/target"
	"fundus/internal/config"
	"fundus/internal/machine"
)

// Lost is what was found on a disk whose table is lost.
type Lost struct {
	Disk  inventory.Node
	Found []lost.Found
}

// FindLost reads the whole disk and looks for what may have been partitions.
func FindLost(ctx context.Context, r machine.Reader, word string, c *config.Config, sink progress.Sink) (*Lost, error) {
	v, err := r.Inventory(ctx)
	if err != nil {
		return nil, err
	}
	n, err := target.LookDisk(v, word)
	if err != nil {
		return nil, err
	}
	dev, err := r.Open(ctx, n.Name)
	if err != nil {
		return nil, err
	}
	defer dev.Close()
	found, err := lost.Find(ctx, dev, c.Step(n.Geometry), sink)
	if err != nil {
		return nil, machine.About(n.Name, err)
	}
	return &Lost{n, found}, nil
}
