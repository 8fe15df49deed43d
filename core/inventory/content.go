package inventory

import (
	"slices"

	"fundus/core/fs"
)

// Content is what Linux takes the node for: the fence where there is one, else
// the one thing with a valid signature that is no partition table, else the one
// of the highest rank. Several of the same contradict each other: then there is
// none.
//
// It is the answer to "what would be mounted": udev asks the same question, and where it
// finds two file systems it names neither, so that nothing here may guess.
func (n Node) Content() (fs.Content, bool) {
	var found []fs.Content
	for _, c := range n.Contents {
		if c.Class == fs.Fence {
			return c, true
		}
		if c.Class != fs.Table {
			found = append(found, c)
		}
	}
	found = slices.DeleteFunc(found, func(c fs.Content) bool {
		return c.Yields != "" && slices.ContainsFunc(n.Contents, func(o fs.Content) bool { return o.Kind == c.Yields })
	})
	if len(found) == 0 {
		return fs.Content{}, false
	}
	first := slices.MaxFunc(found, func(a, b fs.Content) int { return int(a.Rank - b.Rank) })
	same := 0
	for _, c := range found {
		if c.Rank == first.Rank {
			same++
		}
	}
	if same > 1 {
		return fs.Content{}, false
	}
	return first, true
}

// spans reports whether what is on the node lies on other devices as well.
func (n Node) spans() bool {
	c, ok := n.Content()
	return ok && c.Spans()
}

// Unused reports whether nothing is known that would be lost, were the node
// formatted: it is empty, nobody uses it, and no line of fstab names it. A
// disk with partitions is in use by them; named is what Named gives.
func (v *Inventory) Unused(n Node, named map[string]string) bool {
	if n.Problem != "" || n.Hardware.ReadOnly || !n.Zeros || len(v.UsesOf(n.Name)) > 0 {
		return false
	}
	return named[n.Name] == ""
}
