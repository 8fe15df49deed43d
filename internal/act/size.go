package act

import (
	"context"
	"fmt"

	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/internal/machine"
	"fundus/internal/task/space"
)

// AskSize has the kernel ask the disk for its size, unless only less is wanted: a disk that has
// grown while the machine runs is not known to be larger before that. Nothing on it changes.
// The note says that it has grown; now is the machine as it was seen last, nil where that was not
// needed or did not work.
func AskSize(ctx context.Context, m machine.Machine, r *space.Resize) (now *inventory.Inventory, note string, err error) {
	if r.Size.Form == quantity.Min || len(r.By) > 0 && r.By[0] == '-' {
		return nil, "", nil
	}
	v, err := m.Inventory(ctx)
	if err != nil {
		return nil, "", nil // the plan says what is wrong
	}
	n, _, err := space.Named(v, r.Target)
	if err != nil {
		return v, "", nil
	}
	d, _ := v.Node(n.Disk())
	if d.Form != inventory.Disk {
		return v, "", nil
	}
	if err := m.Do(ctx, v, machine.Action{Verb: machine.ReadSize, Device: d.Name}); err != nil {
		return v, "", fmt.Errorf("%s could not be asked for its size, and %v is gone by: %w", d.Name, d.Size, err)
	}
	if v, err = m.Inventory(ctx); err != nil {
		return nil, "", nil
	}
	if is, ok := v.Node(d.Name); ok && is.Size != d.Size {
		note = fmt.Sprintf("%s: the kernel asked it for its size, and knows now that it has %v instead of %v", d.Name, is.Size, d.Size)
	}
	return v, note, nil
}
