package machine

import (
	"slices"

	"fundus/core/inventory"
)

// Effect brings about in plain data what the action does. The inventory is the
// caller's own; lists that others may hold are not written to.
func Effect(v *inventory.Inventory, a Action) {
	at := func(how inventory.How, pass func(u inventory.Use) bool) func(inventory.Use) bool {
		return func(u inventory.Use) bool { return u.How == how && pass(u) }
	}
	switch a.Verb {
	case AddPartition, RemovePartition, ResizePartition:
		v.Nodes = slices.Clone(v.Nodes)
		tell(v.Nodes, a)
	case ReadTable:
		v.Nodes = slices.Clone(v.Nodes)
		readTable(v, a.Disk)
	case Mount:
		c, _ := nodeOf(v, a.Node).Content()
		kind := c.Kind
		if kind == "" {
			kind = a.Kind
		}
		use := inventory.Use{Node: a.Node, How: inventory.Mounted, Where: a.Where, Kind: kind, Options: a.Options, ReadOnly: hasOption(a.Options, "ro")}
		v.Uses = append(slices.Clone(v.Uses), use)
	case Unmount:
		v.Uses = slices.DeleteFunc(slices.Clone(v.Uses), at(inventory.Mounted, func(u inventory.Use) bool { return u.Where == a.Where }))
	case SwapOn:
		v.Uses = append(slices.Clone(v.Uses), inventory.Use{Node: a.Node, How: inventory.SwapOn})
	case SwapOff:
		v.Uses = slices.DeleteFunc(slices.Clone(v.Uses), at(inventory.SwapOn, func(u inventory.Use) bool { return u.Node == a.Node }))
	}
}

func nodeOf(v *inventory.Inventory, name string) inventory.Node {
	n, _ := v.Node(name)
	return n
}

// tell changes what the kernel takes for the partitions of the disk.
func tell(nodes []inventory.Node, a Action) {
	var known []inventory.KernelPart
	for i := range nodes {
		switch n := &nodes[i]; {
		case n.Name == a.Disk:
			known = slices.DeleteFunc(slices.Clone(n.Kernel), func(k inventory.KernelPart) bool { return k.Number == a.Number })
			if a.Verb != RemovePartition {
				known = append(known, inventory.KernelPart{Number: a.Number, Start: a.Start, Size: a.Size})
			}
			n.Kernel = known
		case n.Parent == a.Disk:
			n.InKernel = slices.Contains(known, n.InKernelAs())
		}
	}
}

// readTable makes the kernel's partitions of the disk those of its table.
func readTable(v *inventory.Inventory, disk string) {
	var known []inventory.KernelPart
	for _, n := range v.Parts(disk) {
		known = append(known, n.InKernelAs())
	}
	for i := range v.Nodes {
		switch n := &v.Nodes[i]; {
		case n.Name == disk:
			n.Kernel = known
		case n.Parent == disk:
			n.InKernel = true
		}
	}
}
