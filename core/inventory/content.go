package inventory

import (
	"cmp"
	"fmt"
	"fundus/core/fs"
	"fundus/core/table"
	"slices"
	"strings"
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

// Believed says which of several signatures counts; empty where there is only
// one.
func (n Node) Believed() string {
	if len(n.Contents) < 2 {
		return ""
	}
	c, ok := n.Content()
	switch {
	case !ok:
		return "none: systemd gives it no identifier, and the kernel mounts it as whatever it is told"
	case c.Class == fs.Fence:
		return "the fence: nothing mounts it"
	case c.AtEnd:
		return c.Kind + ": what else is here is what the array holds"
	case slices.ContainsFunc(n.Contents, func(o fs.Content) bool { return o.Class == fs.Table }):
		return c.Kind + " on the whole device, and the table for partitions of it"
	}
	return c.Kind + ": the others are not looked at, and come back when its signature goes"
}

// Places lists every signature with its first byte.
func (n Node) Places() string {
	var words []string
	for _, c := range n.Contents {
		for _, s := range c.Signatures {
			words = append(words, fmt.Sprintf("%s at byte %d", c.Kind, s.Start))
		}
	}
	return strings.Join(words, ", ")
}

// Holds is one word or two for what is on the node; "" for an empty one, and for a disk
// of which its table is all there is to say. What no probe recognises is "unknown".
func (n Node) Holds() string {
	switch {
	case n.Silent:
		return "silent"
	case n.Hardware.State == NoMedium:
		return NoMedium
	case n.Entry.Number > 0 && n.Entry.Span.Count == 0:
		return "no sectors"
	case n.Problem != "" && len(n.Contents) == 0:
		return "unreadable"
	}
	c, ok := n.Content()
	switch {
	case n.Entry.Role == table.Extended:
		return "extended"
	case ok:
		return c.Kind
	case len(n.Contents) == 0 && n.Within != "":
		return "part of " + n.Within
	case len(n.Contents) == 0 && n.Table == nil && !n.Zeros:
		return "unknown"
	case len(n.Contents) == 0:
		return ""
	}
	var kinds []string
	for _, c := range n.Contents {
		kinds = append(kinds, c.Kind)
	}
	return strings.Join(kinds, "+")
}

// Words say what is on the node, with its label: "ext4 herbarium", "empty".
func (n Node) Words() string {
	holds := n.Holds()
	if c, ok := n.Content(); ok && c.Label != "" {
		return holds + " " + c.Label
	}
	return cmp.Or(holds, "empty")
}

// spans reports whether what is on the node lies on other devices as well.
func (n Node) spans() bool {
	c, ok := n.Content()
	return ok && c.Devices != ""
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
