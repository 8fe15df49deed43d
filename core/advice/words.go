package advice

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/table"
)

// Believed says which of several signatures counts; empty where there is only
// one.
func Believed(n inventory.Node) string {
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

// Signatures lists every signature with its first byte.
func Signatures(n inventory.Node) string {
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
func Holds(n inventory.Node) string {
	switch {
	case n.Silent:
		return "silent"
	case n.Hardware.State == inventory.NoMedium:
		return inventory.NoMedium
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
func Words(n inventory.Node) string {
	holds := Holds(n)
	if c, ok := n.Content(); ok && c.Label != "" {
		return holds + " " + c.Label
	}
	return cmp.Or(holds, "empty")
}
