package boot

import (
	"maps"
	"math/rand/v2"
	"slices"
	"strings"

	"fundus/core/inventory"
	"fundus/core/text/fstab"
)

// Absent is the machine without a disk: what is on it and what is built on it is gone too. An
// array or a volume that has other disks as well cannot be read then: whether it starts is for
// nobody to tell.
func Absent(v *inventory.Inventory, disk string) *inventory.Inventory {
	out := *v
	gone := map[string]bool{}
	for _, n := range v.Family(disk) {
		gone[n.Name] = true
	}
	for more := true; more; { // what is built on it, and on that
		more = false
		for _, n := range v.Nodes {
			below := slices.ContainsFunc(n.BuiltOn, func(b string) bool { return gone[b] })
			if whole := below &&
				!slices.ContainsFunc(n.BuiltOn, func(b string) bool { return !gone[b] }); !gone[n.Name] &&
				(whole || gone[n.Parent] && n.Parent != "") {
				gone[n.Name], more = true, true
			}
		}
	}
	out.Nodes = nil
	for _, n := range v.Nodes {
		if gone[n.Name] {
			continue
		}
		if slices.ContainsFunc(n.BuiltOn, func(b string) bool { return gone[b] }) {
			n.Problem, n.Contents, n.Table = "a disk of it is gone: whether it starts without cannot be told", nil, nil
		}
		out.Nodes = append(out.Nodes, n)
	}
	out.Uses = slices.DeleteFunc(slices.Clone(v.Uses), func(u inventory.Use) bool { return gone[u.Node] })
	out.Areas = slices.DeleteFunc(slices.Clone(v.Areas), func(a inventory.Area) bool { return gone[a.Node] || gone[a.On] })
	return &out
}

// buses are the beginnings of names that the kernel gives in the order in which it finds disks.
func buses() []string { return []string{"sd", "vd", "xvd", "hd", "nvme", "mmcblk", "ubd"} }

// Shuffled is the machine whose disks were found in another order: of each bus, no disk has its
// own name where there are two or more. The new names are given by the old ones.
func Shuffled(v *inventory.Inventory, seed uint64) (*inventory.Inventory, map[string]string) {
	names := map[string]string{}
	rng := rand.New(rand.NewPCG(seed, 1))
	for _, bus := range buses() {
		var disks []string
		for _, n := range v.Disks() {
			if n.Form == inventory.Disk && strings.HasPrefix(n.Name, bus) && strings.HasPrefix(n.Path, "/dev/") {
				disks = append(disks, n.Name)
			}
		}
		if len(disks) < 2 {
			continue
		}
		by := 1 + rng.IntN(len(disks)-1) // each takes the name of the one so many places on
		for i, d := range disks {
			names[d] = disks[(i+by)%len(disks)]
		}
	}
	return renamed(v, names), names
}

// renamed is the machine with other names of disks, and of all that lies on them.
func renamed(v *inventory.Inventory, disks map[string]string) *inventory.Inventory {
	names := maps.Clone(disks)
	for _, n := range v.Nodes {
		if to, is := disks[n.Parent]; is {
			names[n.Name] = to + partName(n, to)
		}
	}
	name := func(s string) string {
		if to, is := names[s]; is {
			return to
		}
		return s
	}
	out := *v
	out.Nodes = make([]inventory.Node, 0, len(v.Nodes))
	for _, d := range v.Disks() {
		for _, n := range v.Family(d.Name) {
			if to, is := names[n.Name]; is {
				n.Name, n.Path = to, "/dev/"+to
			}
			n.Parent = name(n.Parent)
			n.BuiltOn = slices.Clone(n.BuiltOn)
			for i := range n.BuiltOn {
				n.BuiltOn[i] = name(n.BuiltOn[i])
			}
			n.Links = slices.DeleteFunc(slices.Clone(n.Links), func(l string) bool { return strings.Count(l, "/") == 2 }) // names of the kernel's
			out.Nodes = append(out.Nodes, n)
		}
	}
	out.Uses = slices.Clone(v.Uses)
	for i := range out.Uses {
		out.Uses[i].Node = name(out.Uses[i].Node)
	}
	out.Areas = slices.Clone(v.Areas)
	for i, a := range out.Areas {
		if to := name(a.Node); to != a.Node {
			out.Areas[i].Node, out.Areas[i].Path = to, "/dev/"+to
		}
		out.Areas[i].On = name(a.On)
	}
	return &out
}

// partName is what stands behind the name of a disk in that of its partition: a p goes between
// two numbers.
func partName(n inventory.Node, disk string) string {
	rest := strings.TrimPrefix(n.Name, n.Parent)
	rest = strings.TrimPrefix(rest, "p")
	if last := disk[len(disk)-1]; last >= '0' && last <= '9' {
		return "p" + rest
	}
	return rest
}

// WithFstab is the machine with another table.
func WithFstab(v *inventory.Inventory, data []byte) *inventory.Inventory {
	out := *v
	out.Files = maps.Clone(v.Files)
	out.Files[fstab.Path] = inventory.File{Data: data}
	out.Dirs, out.Leads, out.Sources = maps.Clone(v.Dirs), maps.Clone(v.Leads), maps.Clone(v.Sources)
	return &out
}
