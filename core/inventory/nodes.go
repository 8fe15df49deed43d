package inventory

import "slices"

// index is where nodes stand, by their names and by their aliases.
type index struct{ names, aliases map[string]int }

// few is how many nodes are gone through as fast as they are looked up.
const few = 16

// at is where a node stands, by its name, or by its alias; -1 without one.
func (v *Inventory) at(name string) int {
	if v.texts == nil || len(v.Nodes) <= few {
		at := slices.IndexFunc(v.Nodes, func(n Node) bool { return n.Name == name })
		if at < 0 && name != "" {
			at = slices.IndexFunc(v.Nodes, func(n Node) bool { return n.Alias == name })
		}
		return at
	}
	v.texts.Lock()
	x := of(&v.texts.nodes, v.Nodes, func() *index {
		x := &index{make(map[string]int, len(v.Nodes)), map[string]int{}}
		for i := len(v.Nodes) - 1; i >= 0; i-- { // the first of a name counts
			x.names[v.Nodes[i].Name] = i
			x.aliases[v.Nodes[i].Alias] = i
		}
		return x
	})
	v.texts.Unlock()
	if i, ok := x.names[name]; ok {
		return i
	}
	if i, ok := x.aliases[name]; ok && name != "" {
		return i
	}
	return -1
}

// Node finds a node by its name, or by its alias.
func (v *Inventory) Node(name string) (Node, bool) {
	if i := v.at(name); i >= 0 {
		return v.Nodes[i], true
	}
	return Node{}, false
}

// which lists the nodes that pass, in their order.
func (v *Inventory) which(pass func(n *Node) bool) (out []Node) {
	for i := range v.Nodes {
		if pass(&v.Nodes[i]) {
			out = append(out, v.Nodes[i])
		}
	}
	return out
}

// Silent gives the names of the nodes that nothing is asked of.
func (v *Inventory) Silent() map[string]bool {
	out := map[string]bool{}
	for _, n := range v.which(func(n *Node) bool { return n.Silent }) {
		out[n.Name] = true
	}
	return out
}

// Kinds are the kinds of content that the nodes hold, each once, in alphabetical order.
func (v *Inventory) Kinds() (out []string) {
	for i := range v.Nodes {
		for _, c := range v.Nodes[i].Contents {
			out = append(out, c.Kind)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Disks lists the nodes that are no part of another.
func (v *Inventory) Disks() []Node {
	return v.which(func(n *Node) bool { return n.Parent == "" })
}

// Parts lists the partitions of a disk by their number.
func (v *Inventory) Parts(disk string) []Node {
	family := v.Family(disk)
	return slices.DeleteFunc(family, func(n Node) bool { return n.Parent != disk })
}

// Family is the node, its disk and its partitions: whoever is touched when the
// whole node is written.
//
// In the order of the inventory: the disk, then its partitions by number.
func (v *Inventory) Family(name string) []Node {
	first := v.at(name)
	if first < 0 || v.Nodes[first].Name != name {
		return nil
	}
	end := first + 1 // they follow each other
	for end < len(v.Nodes) && v.Nodes[end].Parent == name {
		end++
	}
	return slices.Clone(v.Nodes[first:end])
}

// Imaged reports whether the node is an image file or lies in one: no text file of the
// machine names that.
//
// A file is named by its path, and mounted over a loop device that comes and goes; a line
// of fstab that says an identifier from inside of it means a device of the machine.
func (v *Inventory) Imaged(n Node) bool {
	disk, ok := v.Node(n.Parent)
	return n.Form == Image || ok && disk.Form == Image
}

// Below lists the whole devices that a node is built on, over every layer.
func (v *Inventory) Below(n Node) (out []Node) {
	seen := map[string]bool{} // the kernel builds no circles
	var down func(n Node)
	down = func(n Node) {
		for _, name := range n.BuiltOn {
			under, ok := v.Node(name)
			if disk, in := v.Node(under.Parent); in {
				under = disk
			}
			if ok && !seen[under.Name] {
				seen[under.Name] = true
				out = append(out, under)
				down(under)
			}
		}
	}
	down(n)
	return out
}
