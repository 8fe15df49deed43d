package machine

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/mountopt"
	"fundus/core/text/fstab"
)

func mounted(v *inventory.Inventory, a Action) {
	c, _ := nodeOf(v, a.Device).Content()
	v.Uses = append(slices.Clone(v.Uses), MountedAs(a, c))
}

// MountedAs is the use that a mount brings about, with its options where the kernel lists
// them: of the kind that lies there, or, where none is recognised, of the one that was asked
// for.
func MountedAs(a Action, c fs.Content) inventory.Use {
	s := kind.Options(a.MountType(c)).Sort(fstab.Split(a.Options))
	u := inventory.Use{
		Node:     a.Device,
		How:      inventory.Mounted,
		Where:    a.Where,
		Kind:     cmp.Or(c.Kind, a.Kind),
		ReadOnly: slices.Contains(s.Superblock, "ro"),
	}
	u.Options = strings.Join(s.Attributes, ",")
	u.Super = strings.Join(slices.Concat(s.Superblock, s.Own), ",")
	return u
}

// remounted gives a mount the options that are named, in place of their opposites.
func remounted(v *inventory.Inventory, a Action) {
	v.Uses = slices.Clone(v.Uses)
	for i := range v.Uses {
		u := &v.Uses[i]
		if u.How != inventory.Mounted || u.Where != a.Where {
			continue
		}
		t := kind.Options(u.Kind)
		s := t.Sort(slices.Concat(fstab.Split(u.Super), fstab.Split(u.Options), fstab.Split(a.Options)))
		attributes := slices.DeleteFunc(s.Attributes, func(o string) bool { return o == "rw" })
		u.Options, u.Super = strings.Join(attributes, ","), strings.Join(slices.Concat(s.Superblock, lastOf(s.Own)), ",")
		u.ReadOnly = slices.Contains(s.Superblock, "ro")
	}
}

// lastOf keeps of options with values the last of each name.
func lastOf(options []string) (out []string) {
	for i, o := range options {
		name, _, _ := strings.Cut(o, "=")
		if !slices.ContainsFunc(options[i+1:], func(later string) bool { l, _, _ := strings.Cut(later, "="); return l == name }) {
			out = append(out, o)
		}
	}
	return out
}

// HasAll reports whether the mount has each of the options: the kernel lists it, or it is so
// without being listed.
func HasAll(u inventory.Use, options string) bool {
	t := kind.Options(u.Kind)
	have := slices.Concat(mountopt.Listed(u.Options), mountopt.Listed(u.Super))
	for _, o := range fstab.Split(options) {
		row, _ := t.Find(o)
		other := func(h string) bool { return h == row.Not || mountopt.Name(h) == mountopt.Name(o) && h != o }
		switch {
		case o == "ro" || o == "rw":
			if u.ReadOnly != (o == "ro") {
				return false
			}
		case slices.Contains(have, o):
		case !row.Default || slices.ContainsFunc(have, other):
			return false
		}
	}
	return true
}

// SwappedOn is the use that turning on a swap area brings about.
func SwappedOn(a Action) inventory.Use {
	u := inventory.Use{Node: a.Device, How: inventory.SwapOn}
	e := fstab.Entry{Options: fstab.Split(a.Options)}
	if value, ok := e.Value("pri"); ok {
		if n, err := strconv.Atoi(value); err == nil && n >= 0 {
			u.Priority = n
		}
	}
	return u
}

// grown gives the file system on a device its size.
func grown(v *inventory.Inventory, a Action) {
	onContent(v, a, func(c *fs.Content) { c.Size = a.Length })
}

// relabelled gives the file system on a device its label, and identified its identifier.
func relabelled(v *inventory.Inventory, a Action) {
	onContent(v, a, func(c *fs.Content) { c.Label = a.Label })
}

func identified(v *inventory.Inventory, a Action) {
	onContent(v, a, func(c *fs.Content) { c.UUID = a.ID })
}

func onContent(v *inventory.Inventory, a Action, change func(c *fs.Content)) {
	v.Nodes = slices.Clone(v.Nodes)
	for i := range v.Nodes {
		n := &v.Nodes[i]
		c, ok := n.Content()
		if n.Name != a.Device || !ok {
			continue
		}
		n.Contents = slices.Clone(n.Contents)
		at := slices.IndexFunc(n.Contents, func(o fs.Content) bool { return o.Kind == c.Kind && o.UUID == c.UUID })
		change(&n.Contents[at])
	}
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
		case n.Name == a.Device:
			known = slices.DeleteFunc(slices.Clone(n.Kernel), func(k inventory.KernelPart) bool { return k.Number == a.Number })
			if a.Verb != RemovePartition {
				known = append(known, inventory.KernelPart{Number: a.Number, Start: a.Start, Size: a.Size})
			}
			n.Kernel = known
		case n.Parent == a.Device:
			n.InKernel = n.KnownAs(known)
		}
	}
}

// readTable makes the kernel's partitions of the disk those of its table.
func readTable(v *inventory.Inventory, a Action) {
	v.Nodes = slices.Clone(v.Nodes)
	disk := a.Device
	known := v.Taken(disk)
	for i := range v.Nodes {
		switch n := &v.Nodes[i]; {
		case n.Name == disk:
			n.Kernel = known
		case n.Parent == disk:
			n.InKernel = n.KnownAs(known)
		}
	}
}
