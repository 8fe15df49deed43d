package inventory

import (
	"slices"
	"strings"

	"fundus/core/fs"
)

// UsesOf lists the uses of a node.
func (v *Inventory) UsesOf(name string) []Use {
	var out []Use
	if v.texts == nil || len(v.Uses) <= few {
		for _, u := range v.Uses {
			if u.Node == name {
				out = append(out, u)
			}
		}
		return out
	}
	for _, i := range v.usesBy(func(x *useIndex) []int { return x.nodes[name] }) {
		out = append(out, v.Uses[i])
	}
	return out
}

// InUse is the state of a file system that is mounted for writing.
const InUse = "in use"

// StateOf is how a content was left, or that it is in use: a superblock says of every mounted
// file system that it was not unmounted, and that is no damage.
func StateOf(c fs.Content, uses []Use) string {
	mounted := slices.ContainsFunc(uses, func(u Use) bool { return u.How == Mounted && !u.ReadOnly })
	if mounted && c.Class == fs.FileSystem && (c.State == fs.Recovery || c.State == fs.Dirty || c.State == fs.Clean) {
		return InUse
	}
	if c.AtMount.Why() != "" && len(uses) == 0 {
		return string(fs.Damaged)
	}
	return string(c.State)
}

// SwapsOn reports whether the kernel swaps on the device.
func (v *Inventory) SwapsOn(node string) bool {
	return slices.ContainsFunc(v.UsesOf(node), func(u Use) bool { return u.How == SwapOn })
}

// AreaAt reports whether the kernel swaps on the path.
func (v *Inventory) AreaAt(file string) bool {
	return slices.ContainsFunc(v.Areas, func(a Area) bool { return a.Path == file })
}

// MountedAt finds the newest mount at the directory.
func (v *Inventory) MountedAt(dir string) (Use, bool) {
	if v.texts != nil && len(v.Uses) > few {
		at := v.usesBy(func(x *useIndex) []int { return x.places[dir] })
		if len(at) == 0 {
			return Use{}, false
		}
		return v.Uses[at[len(at)-1]], true
	}
	for _, u := range slices.Backward(v.Uses) {
		if u.How == Mounted && u.Where == dir && u.Elsewhere == "" {
			return u, true
		}
	}
	return Use{}, false
}

// useIndex is where uses stand, by their nodes, and this system's mounts by their places.
type useIndex struct{ nodes, places map[string][]int }

func (v *Inventory) usesBy(which func(x *useIndex) []int) []int {
	v.texts.Lock()
	defer v.texts.Unlock()
	return which(of(&v.texts.uses, v.Uses, func() *useIndex {
		x := &useIndex{map[string][]int{}, map[string][]int{}}
		for i, u := range v.Uses {
			x.nodes[u.Node] = append(x.nodes[u.Node], i)
			if u.How == Mounted && u.Elsewhere == "" {
				x.places[u.Where] = append(x.places[u.Where], i)
			}
		}
		return x
	}))
}

// Automount is the kind of a place that is mounted at the first access.
const Automount = "autofs"

// OtherAt finds what is mounted on top at the directory where it is of no node. A place that
// waits for the first access is none.
func (v *Inventory) OtherAt(dir string) (Use, bool) {
	for _, u := range slices.Backward(v.Others) {
		if u.Where == dir && u.Elsewhere == "" && u.Kind != Automount {
			on, covered := v.MountedAt(dir)
			return u, !covered || on.Number < u.Number
		}
	}
	return Use{}, false
}

// Awaits reports whether the directory is mounted at the first access, or lies below such a
// one, and nothing is mounted there yet.
func (v *Inventory) Awaits(dir string) bool {
	return slices.ContainsFunc(v.Others, func(u Use) bool {
		if u.Kind != Automount || dir != u.Where && !strings.HasPrefix(dir, u.Where+"/") {
			return false
		}
		_, mounted := v.MountedAt(u.Where)
		_, other := v.OtherAt(u.Where)
		return !mounted && !other
	})
}

// MountOf finds the mount that the path lies on; false where none of the devices is mounted
// there.
func (v *Inventory) MountOf(p string) (on Use, ok bool) {
	for _, u := range v.Uses {
		inside := p == u.Where || strings.HasPrefix(p, strings.TrimSuffix(u.Where, "/")+"/")
		if u.How == Mounted && u.Elsewhere == "" && inside && len(u.Where) >= len(on.Where) {
			on, ok = u, true
		}
	}
	return on, ok
}

// Held reports whether another device is built on the node.
func (v *Inventory) Held(name string) bool {
	return slices.ContainsFunc(v.UsesOf(name), func(u Use) bool { return u.How == Held })
}
