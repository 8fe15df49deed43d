package live

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/quantity"
	"fundus/core/text/fstab"
	"fundus/internal/oscall"
)

// holders are devices that are built on the disk or on a partition of it.
func (m *Machine) holders(d listed) (uses []inventory.Use) {
	look := func(node, dir string) {
		entries, err := os.ReadDir(filepath.Join(dir, "holders"))
		if err != nil {
			return
		}
		for _, e := range entries {
			uses = append(uses, inventory.Use{Node: node, How: inventory.Held, Where: e.Name()})
		}
	}
	look(d.node.Name, d.dir)
	for _, p := range d.parts {
		look(p.name, filepath.Join(d.dir, p.name))
	}
	return uses
}

// mounts reads this system's mount table and asks how full each mount is, but
// those of the silent nodes: their answer could take for ever.
func (m *Machine) mounts(v *inventory.Inventory, names map[string]string, silent map[string]bool) error {
	uses, others, err := m.mountTable("self", names)
	if err != nil {
		return fmt.Errorf("the kernel's list of mounts: %w", err)
	}
	for i := range uses {
		u := &uses[i]
		if !silent[u.Node] {
			u.Space = space(u.Where, u.Kind)
		}
	}
	m.place(uses)
	m.place(others)
	v.Uses, v.Others = append(v.Uses, uses...), others
	return nil
}

// lists are the kernel's own lists of mounts and of swap, without a look at any disk.
func (m *Machine) lists(ctx context.Context) (*inventory.Inventory, error) {
	if len(m.images) > 0 { // which loop device carries what is known by the images
		return m.Inventory(ctx)
	}
	entries, err := os.ReadDir(filepath.Join(m.at.sys, "block"))
	if err != nil {
		return nil, fmt.Errorf("the kernel's list of disks: %w", err)
	}
	v, names := &inventory.Inventory{}, map[string]string{}
	for _, e := range entries {
		d, err := m.listed(e.Name())
		if err != nil {
			continue // it was pulled out meanwhile
		}
		nodes := d.bare()
		names[d.dev] = d.node.Name
		for i, p := range d.parts {
			names[p.dev] = p.name
			nodes[1+i].Links, nodes[1+i].Device = m.links(p.dev, ""), p.dev
		}
		v.Nodes = append(v.Nodes, nodes...)
	}
	if v.Uses, v.Others, err = m.mountTable("self", names); err != nil {
		return nil, fmt.Errorf("the kernel's list of mounts: %w", err)
	}
	m.place(v.Uses)
	m.place(v.Others)
	v.Uses = append(v.Uses, m.swaps(v)...)
	return v, nil
}

// place gives each mount its place in the system below the root.
func (m *Machine) place(uses []inventory.Use) {
	for i := range uses {
		where, inside := m.inRoot(uses[i].Where)
		if inside {
			uses[i].Where = where
		} else {
			uses[i].Elsewhere = "outside of " + m.at.root
		}
	}
}

// inRoot is the mount point as the system below the root has it.
func (m *Machine) inRoot(where string) (string, bool) {
	root := strings.TrimSuffix(m.at.root, "/")
	rest, ok := strings.CutPrefix(where, root)
	if !ok || rest != "" && rest[0] != '/' {
		return where, false
	}
	return "/" + strings.TrimPrefix(rest, "/"), true
}

// mountTable reads a process's mount table: a line has the device's numbers third, the mount
// point fifth, the mount's options sixth; behind a lone dash come the kind, the source and
// the options of the file system.
//
// Kinds that spread over devices, such as btrfs, have numbers of their own there: those are
// known by the source. What is of no node is listed by itself.
func (m *Machine) mountTable(process string, names map[string]string) (uses, others []inventory.Use, err error) {
	data, err := os.ReadFile(filepath.Join(m.at.proc, process, "mountinfo"))
	if err != nil {
		return nil, nil, err
	}
	for line := range strings.Lines(string(data)) {
		f := strings.Fields(line)
		dash := slices.Index(f, "-")
		if len(f) < 7 || dash < 6 || dash+3 >= len(f) {
			continue
		}
		name := names[f[2]]
		if name == "" && strings.HasPrefix(f[2], "0:") {
			name = m.sourceOf(fstab.Unescape(f[dash+2]), names)
		}
		u := inventory.Use{
			Node:    name,
			How:     inventory.Mounted,
			Where:   fstab.Unescape(f[4]),
			Kind:    f[dash+1],
			Options: f[5],
			Super:   f[dash+3],
		}
		u.Number, _ = strconv.Atoi(f[0])
		if part := fstab.Unescape(f[3]); part != "/" {
			u.Part = part
		}
		u.ReadOnly = slices.Contains(strings.Split(u.Options, ","), "ro") || slices.Contains(strings.Split(u.Super, ","), "ro")
		if name == "" {
			u.Source = fstab.Unescape(f[dash+2])
			others = append(others, u)
			continue
		}
		uses = append(uses, u)
	}
	return uses, others, nil
}

// sourceOf names the node that a source is a path of, links followed.
func (m *Machine) sourceOf(source string, names map[string]string) string {
	rest, ok := strings.CutPrefix(source, "/dev/")
	if !ok {
		return ""
	}
	real, err := filepath.EvalSymlinks(filepath.Join(m.at.dev, rest))
	if err != nil {
		return ""
	}
	for _, name := range names {
		if name == filepath.Base(real) {
			return name
		}
	}
	return ""
}

// spread adds the uses of the other devices of file systems that lie on several.
func spread(v *inventory.Inventory) {
	for _, u := range slices.Clone(v.Uses) {
		n, ok := v.Node(u.Node)
		c, holds := n.Content()
		if !ok || !holds || u.How != inventory.Mounted || !c.Spans() || c.UUID == "" {
			continue
		}
		for _, o := range v.Nodes {
			other, is := o.Content()
			used := slices.ContainsFunc(v.Uses, func(have inventory.Use) bool { return have.Node == o.Name && have.Where == u.Where })
			if is && other.UUID == c.UUID && other.Kind == c.Kind && !used {
				also := u
				also.Node = o.Name
				v.Uses = append(v.Uses, also)
			}
		}
	}
}

// space asks how full a mount is. File systems in user space can hang, and are
// not asked.
func space(where, kind string) inventory.Space {
	var st unix.Statfs_t
	if strings.HasPrefix(kind, "fuse") || unix.Statfs(where, &st) != nil {
		return inventory.Space{}
	}
	block := quantity.Bytes(st.Frsize)
	return inventory.Space{
		Total: quantity.Bytes(st.Blocks) * block,
		Free:  quantity.Bytes(st.Bfree) * block,
		Files: st.Files,
		Left:  st.Ffree,
	}
}

// elsewhere finds, as far as rights go, what other mount namespaces have
// mounted and this one has not.
func (m *Machine) elsewhere(v *inventory.Inventory, names map[string]string) (uses []inventory.Use) {
	space := func(process string) string {
		link, err := os.Readlink(filepath.Join(m.at.proc, process, "ns/mnt"))
		if err != nil {
			return ""
		}
		return link
	}
	seen := map[string]bool{"": true, space("self"): true}
	for _, p := range m.processes() {
		ns := space(p)
		if seen[ns] {
			continue
		}
		seen[ns] = true
		theirs, _, err := m.mountTable(p, names)
		if err != nil {
			continue // it ended meanwhile
		}
		for _, u := range theirs {
			here := slices.ContainsFunc(v.Uses, func(o inventory.Use) bool { return o.Node == u.Node && o.How == inventory.Mounted })
			again := slices.ContainsFunc(uses, func(o inventory.Use) bool { return o.Node == u.Node })
			if !here && !again {
				u.Elsewhere = "in the mount namespace of " + m.describe(p)
				uses = append(uses, u)
			}
		}
	}
	return uses
}

// areas reads the kernel's list of what it swaps on: behind its heading a line has the path,
// the type, size and use in KiB, and the priority.
func (m *Machine) areas() (list []inventory.Area) {
	data, err := os.ReadFile(filepath.Join(m.at.proc, "swaps"))
	if err != nil {
		return nil // a kernel without swap
	}
	for line := range strings.Lines(string(data)) {
		f := strings.Fields(line)
		var size, used int64
		a := inventory.Area{}
		if len(f) < 5 || !strings.HasPrefix(f[0], "/") {
			continue
		}
		if count, _ := fmt.Sscan(strings.Join(f[2:], " "), &size, &used, &a.Priority); count == 3 && used >= 0 && used <= size {
			a.Size, a.Used = quantity.Bytes(size)*quantity.KiB, quantity.Bytes(used)*quantity.KiB
		}
		a.Path, a.File = fstab.Unescape(f[0]), f[1] == "file"
		list = append(list, a)
	}
	return list
}

// swaps are the uses of nodes as swap; the areas are told which nodes they are.
func (m *Machine) swaps(v *inventory.Inventory) (uses []inventory.Use) {
	v.Areas, v.Memory = m.areas(), m.memory()
	for i := range v.Areas {
		a := &v.Areas[i]
		if a.File {
			m.begins(v, a)
		}
		for _, n := range v.Nodes {
			if n.Path != a.Path && !slices.Contains(n.Links, a.Path) {
				continue
			}
			a.Node = n.Name
			uses = append(uses, inventory.Use{
				Node:     n.Name,
				How:      inventory.SwapOn,
				Priority: a.Priority,
				Space:    inventory.Space{Total: a.Size, Free: a.Size - a.Used},
			})
		}
	}
	return uses
}

// begins finds where a file to swap on lies. Of what is never copied on write, the kernel gives
// no place on a device.
func (m *Machine) begins(v *inventory.Inventory, a *inventory.Area) {
	on, ok := v.MountOf(a.Path)
	if other, there := v.OtherAt(on.Where); !ok || m.at.root != "/" || there && other.Number > on.Number ||
		slices.ContainsFunc(kind.SwapFiles(), func(s kind.SwapFile) bool { return s.Type == on.Kind && s.Plain }) {
		return
	}
	f, err := os.Open(a.Path)
	if err != nil {
		return // of a file that is gone, or that only root may read
	}
	defer f.Close()
	if list, err := oscall.Extents(f, false); err == nil && len(list) > 0 {
		a.On, a.First = on.Node, int64(list[0].Physical)/int64(os.Getpagesize())
	}
}

// memory reads /proc/meminfo, whose lines have a name and KiB.
func (m *Machine) memory() (out inventory.Memory) {
	data, err := os.ReadFile(filepath.Join(m.at.proc, "meminfo"))
	if err != nil {
		return out
	}
	for line := range strings.Lines(string(data)) {
		name, rest, _ := strings.Cut(line, ":")
		var n int64
		if _, err := fmt.Sscan(rest, &n); err != nil || n < 0 || n > 1<<50 {
			continue
		}
		switch name {
		case "MemTotal":
			out.Total = quantity.Bytes(n) * quantity.KiB
		case "MemAvailable":
			out.Available = quantity.Bytes(n) * quantity.KiB
		}
	}
	return out
}
