package machine

import (
	"slices"

	"fundus/core/inventory"
)

func mounted(v *inventory.Inventory, a Action) {
	c, _ := nodeOf(v, a.Node).Content()
	kind := c.Kind
	if kind == "" {
		kind = a.Kind
	}
	use := inventory.Use{Node: a.Node, How: inventory.Mounted, Where: a.Where, Kind: kind, Options: a.Options, ReadOnly: hasOption(a.Options, "ro")}
	v.Uses = append(slices.Clone(v.Uses), use)
}

// drop takes uses away.
func drop(v *inventory.Inventory, which func(u inventory.Use) bool) {
	v.Uses = slices.DeleteFunc(slices.Clone(v.Uses), which)
}

func nodeOf(v *inventory.Inventory, name string) inventory.Node {
	n, _ := v.Node(name)
	return n
}

// tell changes what the kernel takes for the partitions of the disk.
func tell(v *inventory.Inventory, a Action) {
	v.Nodes = slices.Clone(v.Nodes)
	nodes := v.Nodes
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
func readTable(v *inventory.Inventory, a Action) {
	v.Nodes = slices.Clone(v.Nodes)
	disk := a.Disk
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
