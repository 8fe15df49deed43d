package live

import (
	"context"
	"fmt"

	"fundus/core/gather"
	"fundus/core/inventory"
	"fundus/internal/machine"
	"fundus/internal/oscall"
)

// Scattered goes through the files below the place.
func (m *Machine) Scattered(ctx context.Context, v *inventory.Inventory, place string, visit func(gather.File)) error {
	if _, err := machine.CheckGather(v, place); err != nil {
		return err
	}
	return oscall.Scattered(ctx, m.below(place), visit)
}

// Together has the kernel exchange a file's pieces for room that lies better.
func (m *Machine) Together(ctx context.Context, v *inventory.Inventory, place, name string) (gather.File, error) {
	way, err := machine.CheckGather(v, place)
	if err != nil {
		return gather.File{}, err
	}
	f, err := oscall.Together(ctx, m.below(place), name, way)
	if err != nil {
		err = fmt.Errorf("%s: %w", name, err)
	}
	return f, err
}
