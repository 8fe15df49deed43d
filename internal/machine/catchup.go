package machine

import (
	"slices"

	"fundus/core/inventory"
)

// Catchup lists the actions, one for each partition that differs, that make the
// kernel's partitions of a disk those of its table: first what it must forget, then
// what becomes smaller, larger, and at last what is new. So a partition that is as
// it was is never touched, and its mount is not disturbed.
//
// Where Linux would see none of a table's partitions the kernel keeps those that it has: what
// is asked for then is the table's repair.
func Catchup(v *inventory.Inventory, disk string) (list []Action) {
	d, ok := v.Node(disk)
	if !ok || d.Form == inventory.Image || d.Form == inventory.Volume || d.Problem != "" || d.Table == nil && len(d.TableBad) > 0 ||
		d.Table != nil && d.Table.Unseen != "" { // what cannot be read says nothing
		return nil
	}
	wanted := map[int]inventory.KernelPart{}
	for _, k := range v.Taken(disk) {
		wanted[k.Number] = k
	}
	action := func(verb Verb, k inventory.KernelPart) Action {
		return Action{Verb: verb, Device: disk, PartArgs: PartArgs{Number: k.Number, Start: k.Start, Size: k.Size}}
	}
	var shrink, grow []Action
	for _, has := range d.Kernel {
		want, stays := wanted[has.Number]
		switch {
		case !stays && d.Table != nil && d.Table.Nested():
			continue // it may be one of those
		case !stays || want.Start != has.Start:
			list = append(list, action(RemovePartition, has))
			continue
		case want.Size < has.Size:
			a := action(ResizePartition, want)
			a.Was = has.Size
			shrink = append(shrink, a)
		case want.Size > has.Size:
			a := action(ResizePartition, want)
			a.Was = has.Size
			grow = append(grow, a)
		}
		delete(wanted, has.Number)
	}
	list = slices.Concat(list, shrink, grow)
	for _, n := range v.Parts(disk) {
		if k, missing := wanted[n.Number]; missing {
			list = append(list, action(AddPartition, k))
		}
	}
	return list
}
