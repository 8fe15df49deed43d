package boot

import (
	"strings"

	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/mounts"
	"fundus/core/text/fstab"
	"fundus/core/text/unit"
)

// rootOptions are those with which the kernel, or the initial file system, mounts the root:
// read-only unless it is told otherwise.
func (f facts) rootOptions() []string {
	options := []string{"ro"}
	for _, w := range f.Words {
		if (w.Name == "ro" || w.Name == "rw") && !w.Valued {
			options = append(options, w.Name)
		}
	}
	return append(options, fstab.Split(f.Words.Last("rootflags"))...)
}

// group is what devices are told together by that may exclude each other: one device, or those of
// one UUID where the kernel mounts no two of them.
func group(on inventory.Node) string {
	c, _ := on.Content()
	if k, ok := kind.Of(c); ok && k.Alone != "" && c.UUID != "" {
		return c.UUID
	}
	return on.Name
}

// sharers are the mounts of each group of devices, worked out once: a machine has thousands of
// lines, and hardly two of one device.
func (m *machine) sharers() map[string][]*node {
	if m.shared != nil {
		return m.shared
	}
	m.shared = map[string][]*node{}
	for _, name := range m.graph.names() {
		n := m.graph.nodes[name]
		if n.loaded == nil || name == rootUp || unit.Suffix(name) != ".mount" {
			continue
		}
		for _, on := range m.by.Resolve(entryOf(n.loaded).Spec) {
			m.shared[group(on)] = append(m.shared[group(on)], n)
		}
	}
	return m.shared
}

// beside lists what is mounted when the unit's turn comes: the root, and the mounts before it.
func (m *machine) beside(n *node, ask mounts.Ask) (out []mounts.Mounted) {
	if ask.Type == fstab.Swap {
		return nil
	}
	if root, ok := m.v.Node(m.rootFound.node); ok && n.name != rootUp && group(root) == group(ask.On) {
		out = append(out, mounts.Mounted{On: root, Where: "/", ReadOnly: m.rootReadOnly()})
	}
	for _, o := range m.sharers()[group(ask.On)] {
		if on, ok := m.v.Node(o.device); ok && o != n && o.job && o.state == done && o.precedes(n) {
			out = append(out, o.mounted(on))
		}
	}
	return out
}

// precedes says which of two mounts is first: by what the one waits for, else by their lines,
// though systemd mounts both at once.
func (o *node) precedes(n *node) bool {
	switch {
	case n.waitsFor(o, map[*node]bool{}):
		return true
	case o.waitsFor(n, map[*node]bool{}):
		return false
	case o.line != n.line:
		return o.line < n.line
	}
	return o.name < n.name
}

// waitsFor reports whether the unit is ordered behind the other one, over whatever lies between: a
// unit that is not started orders nothing, but who waits for it may wait for the other one too.
func (n *node) waitsFor(o *node, seen map[*node]bool) bool {
	for _, a := range n.after {
		if a == o {
			return true
		}
		if !seen[a] {
			if seen[a] = true; a.waitsFor(o, seen) {
				return true
			}
		}
	}
	return false
}

// rival is what excludes this mount and is started at the same time, where it is chance what the
// boot comes to: it needs one of both alone, or one is for writing and one is read-only, which
// come both where the one that is read-only is first. nil where nothing does.
func (m *machine) rival(n *node, ask mounts.Ask) *mounts.Obstacle {
	for _, o := range m.sharers()[group(ask.On)] {
		on, ok := m.v.Node(o.device)
		if !ok || o == n || !o.job || o.state == failed {
			continue
		}
		alike := entryOf(o.loaded).NoFail() == entryOf(n.loaded).NoFail()
		ask.Beside = []mounts.Mounted{o.mounted(on)}
		if x := ask.Excluded(); x != nil && (x.Reason == mounts.Busy || !alike) && !n.waitsFor(o, map[*node]bool{}) &&
			!o.waitsFor(n, map[*node]bool{}) {
			return x
		}
	}
	return nil
}

// mounted is the unit's mount as others find it.
func (n *node) mounted(on inventory.Node) mounts.Mounted {
	e := entryOf(n.loaded)
	return mounts.Mounted{
		On:       on,
		Where:    n.loaded.Where(),
		ReadOnly: n.readOnly || mounts.Ask{On: on, Type: e.Type, Options: e.Options}.ReadOnly(),
	}
}

// remountRefused says why the root is not given the options of its line; "" where nothing is
// against them. The mount program hands them to the kernel, which refuses all of them for one,
// and takes some at the first mount alone. It is worked out once: each mount below the root asks.
func (m *machine) remountRefused() string {
	if m.refused == nil {
		m.refused = new(m.judgeRemount())
	}
	return *m.refused
}

// judgeRemount asks of the first line of the root that is in force: systemd has one unit for a mount
// point, and the first line is its.
func (m *machine) judgeRemount() string {
	root, ok := m.v.Node(m.rootFound.node)
	for _, u := range m.lines {
		if u.Where != "/" || u.None != "" || !ok {
			continue
		}
		ask := mounts.Ask{On: root, Type: u.Entry.Type, Options: u.Entry.Options, Answers: m.v.Answers, Names: m.v.Names}
		if o := ask.Remount(m.facts.rootOptions()); o != nil && !o.Unsure {
			return strings.TrimPrefix(o.Says, "the kernel refuses the mount: ")
		}
	}
	return ""
}
