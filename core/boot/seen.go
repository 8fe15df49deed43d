package boot

import (
	"fmt"

	"fundus/core/inventory"
	"fundus/core/table"
	"fundus/core/units"
)

// seen is the machine with the devices that the kernel makes of its disks at the next boot, and
// the partitions of tables of which it makes none.
//
// The kernel that runs may have them still: it read the table before it was damaged.
func seen(v *inventory.Inventory, words units.Line) (*inventory.Inventory, []inventory.Node) {
	var hidden, made []inventory.Node
	for _, n := range v.Nodes {
		disk, _ := v.Node(n.Parent)
		read := disk.Table != nil && !v.Imaged(n)
		if n.Form == inventory.Partition && read && n.Linux.Size == 0 &&
			!(disk.Table.Forced && words.Has("gpt") && n.Number <= table.HighestNumber) {
			hidden = append(hidden, n)
		} else {
			made = append(made, n)
		}
	}
	if hidden == nil {
		return v, nil
	}
	out := *v
	out.Nodes = made
	return &out, hidden
}

// unseen says which partition would have the device, if the kernel made one of it; "" for none.
func (m *machine) unseen(spec string) string {
	found := (&inventory.Inventory{Nodes: m.hidden, Files: m.v.Files}).Resolver().Resolve(spec)
	if len(found) == 0 {
		return ""
	}
	name := found[0].Name
	disk, _ := m.v.Node(found[0].Parent)
	if disk.Table != nil && disk.Table.Unseen != "" {
		return fmt.Sprintf("%s has %s, and Linux sees no partition of %s: %s (fundus table repair %s)", name, spec,
			disk.Name, disk.Table.Unseen, disk.Name)
	}
	return fmt.Sprintf("%s has %s, and Linux makes no device of it (fundus verify %s)", name, spec, disk.Name)
}
