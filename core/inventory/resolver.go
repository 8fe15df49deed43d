package inventory

import (
	"slices"
	"strings"

	"fundus/core/fs"
	"fundus/core/text/fstab"
)

// tags are the ways in which fstab can name a node.
var tags = [...]string{"UUID", "LABEL", "PARTUUID", "PARTLABEL"}

// Identifiers are the ways in which fstab can name the node, by their tags.
func (n Node) Identifiers() map[string]string {
	ids := map[string]string{}
	for _, tag := range tags {
		if value := n.identifier(tag); value != "" {
			ids[tag] = value
		}
	}
	return ids
}

func (n *Node) identifier(tag string) string {
	switch {
	case tag == "PARTUUID" && n.Form == Partition:
		return n.Entry.UUID
	case tag == "PARTLABEL" && n.Form == Partition:
		return n.Entry.Name
	case tag != "UUID" && tag != "LABEL" || len(n.Contents) == 0:
		return ""
	}
	c, ok := n.Content()
	switch {
	case !ok || c.Class != fs.FileSystem && c.Class != fs.Swap && c.Class != fs.Encrypted:
		return ""
	case tag == "UUID":
		return c.UUID
	}
	return c.Label
}

// Resolve finds every node that the word names: TAG=VALUE, or a path. Who asks
// for many words makes a Resolver.
func (v *Inventory) Resolve(word string) []Node { return v.Resolver().Resolve(word) }

// Resolver finds the nodes that words name, as Inventory.Resolve does, with one
// look at every node for all words together.
type Resolver struct {
	v      *Inventory
	byTag  map[string][]int // by "UUID=…"
	byPath map[string][]int
	held   map[string]bool
}

// Resolver looks at every node once.
func (v *Inventory) Resolver() *Resolver {
	r := &Resolver{v, map[string][]int{}, map[string][]int{}, map[string]bool{}}
	for i := range v.Nodes {
		n := &v.Nodes[i]
		for _, tag := range tags {
			if value := n.identifier(tag); value != "" {
				r.byTag[tag+"="+value] = append(r.byTag[tag+"="+value], i)
			}
		}
		r.byPath[n.Path] = append(r.byPath[n.Path], i)
		for _, link := range n.Links {
			if link != n.Path {
				r.byPath[link] = append(r.byPath[link], i)
			}
		}
	}
	for _, u := range v.Uses {
		if u.How == Held {
			r.held[u.Node] = true
		}
	}
	return r
}

// Resolve finds every node that the word names: TAG=VALUE, or a path.
func (r *Resolver) Resolve(word string) []Node {
	tag, value, isTag := strings.Cut(word, "=")
	if !isTag || strings.HasPrefix(word, "/") {
		return r.nodes(r.byPath[word])
	}
	found := r.byTag[strings.ToUpper(tag)+"="+fstab.Unquote(value)]
	if len(found) < 2 {
		return r.nodes(found)
	}
	// What is built on a device shows what is on it.
	out := slices.DeleteFunc(r.nodes(found), func(n Node) bool { return r.held[n.Name] })
	if len(out) > 0 && !slices.ContainsFunc(out, func(n Node) bool { return !n.spans() }) {
		return out[:1] // one file system on several devices: any of them will do
	}
	return out
}

// Copies, since nobody is to change an inventory that was made.
func (r *Resolver) nodes(places []int) (out []Node) {
	for _, i := range places {
		out = append(out, r.v.Nodes[i])
	}
	return out
}
