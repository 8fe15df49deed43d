package boot

import (
	"fmt"
	"slices"
	"strings"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/mountopt"
	"fundus/core/quantity"
	"fundus/core/text/fstab"
)

// device rehearses a line whose device the boot waits for.
func (m *machine) device(l *Line) {
	e := l.Unit.Entry
	nodes := m.by.Resolve(e.Spec)
	switch {
	case len(nodes) == 0 && strings.HasPrefix(e.Spec, "/dev/") && !strings.HasPrefix(e.Spec, "/dev/sd") && !m.known(e.Spec):
		l.is(Unknown, "%s: only plain device names and identifiers are modelled", e.Spec)
	case len(nodes) > 1:
		l.is(Unknown, "%s is carried by %s and %s: which is taken is chance", e.Spec, nodes[0].Name, nodes[1].Name)
	case len(nodes) == 0 && m.unread() != "":
		l.is(Unknown, "no device that can be read has %s; it may be on %s", e.Spec, m.unread())
	case len(nodes) == 0:
		m.absent(l)
	default:
		l.Device = nodes[0].Name
		m.onto(l, nodes[0])
	}
}

// absent is a device that does not come. A swap area is waited for whatever the line says:
// only a shorter time helps, or noauto.
func (m *machine) absent(l *Line) {
	u := l.Unit
	wait := "waits " + DefaultTimeout
	switch u.Device {
	case "":
	case "infinity", "0":
		wait = "waits for ever"
	default:
		wait = "waits " + u.Device
	}
	reason := m.missing(u.Entry)
	switch {
	case u.Entry.IsSwap() && u.Entry.NoFail():
		l.is(Delay, "%s; the boot %s, for swap with nofail too", reason, wait)
	case u.Entry.IsSwap():
		l.is(Delay, "%s; the boot %s", reason, wait)
	case u.Automount:
		l.is(Left, "%s; the boot goes on, the first access %s and fails", reason, wait)
	case u.Late:
		l.is(Left, "%s", reason)
	default:
		if l.fails("%s", reason); l.Outcome == Emergency {
			l.Reason += "; the boot " + wait
		}
	}
}

// onto holds the line against what is on the device.
func (m *machine) onto(l *Line, n inventory.Node) {
	e := l.Unit.Entry
	if reason := mountable(n, e); reason != "" {
		l.fails("%s: %s", n.Name, reason)
		return
	}
	if f, wrong := m.options(n, e); wrong && f.Trouble == mountopt.Untold {
		l.is(Unknown, "%s", f.Says)
		return
	} else if wrong && !e.IsSwap() {
		l.fails("%s: the kernel refuses the mount: %s", n.Name, f.Says)
		return
	}
	switch {
	case e.IsSwap() || m.v.Dirs[l.Unit.Where]:
		l.is(Fine, "%s", n.Name)
	case m.rootReadOnly():
		l.fails("%s: the mount point %s is missing, and the root is read-only: nothing can make it", n.Name, l.Unit.Where)
	default:
		l.is(Fine, "%s; systemd makes the directory %s", n.Name, l.Unit.Where)
	}
	if l.Unit.Automount && l.Outcome == Fine {
		l.Reason += ", at the first access"
	}
}

// options gives the first option for which the kernel refuses the mount, or of which nobody
// can tell.
func (m *machine) options(n inventory.Node, e fstab.Entry) (mountopt.Fault, bool) {
	typ := e.Type
	c, ok := n.Content()
	if ok && (typ == "" || typ == "auto" || strings.Contains(typ, ",")) {
		typ = c.MountType()
	}
	for _, f := range kind.Options(typ).Check(e.Options, c.Has) {
		if f.Trouble.Refused() || f.Trouble == mountopt.Untold {
			return f, true
		}
	}
	return mountopt.Fault{}, false
}

// rootReadOnly reports whether the line of the root has it mounted read-only.
func (m *machine) rootReadOnly() bool {
	return slices.ContainsFunc(m.units, func(u fstab.Unit) bool { return u.Where == "/" && u.None == "" && u.Entry.On("ro", "rw") })
}

func (m *machine) known(path string) bool {
	return slices.ContainsFunc(m.v.Nodes, func(n inventory.Node) bool { return strings.HasPrefix(path, n.Path) })
}

// unread names a device that could not be read, on which anything may be.
func (m *machine) unread() string {
	for _, n := range m.v.Nodes {
		if n.Form != inventory.Image && (n.Silent || n.Problem != "" && len(n.Contents) == 0 && n.Size > 0) {
			return n.Name
		}
	}
	return ""
}

// missing says why the word names no device.
//
// A fence hides the identifier that it stands in place of: then the way out is to recover,
// not to mend the line.
func (m *machine) missing(e fstab.Entry) string {
	for _, n := range m.v.Nodes {
		if c, ok := n.Content(); ok && c.Class == fs.Fence {
			return fmt.Sprintf("no device has %s; %s is fenced by a deed that was cut short (fundus recover)", e.Spec, n.Name)
		}
	}
	return fmt.Sprintf("no device has %s", e.Spec)
}

// mountable says why the kernel would refuse the node as the entry's type.
//
// It asks what the kernel asks at the mount, as far as that can be seen from outside:
// class, kind, damage, features, size.
func mountable(n inventory.Node, e fstab.Entry) string {
	c, ok := n.Content()
	switch {
	case n.Problem != "":
		return n.Problem
	case !ok && len(n.Contents) > 1:
		return "it carries several signatures: " + n.Holds()
	case !ok:
		return "it holds no file system"
	case c.Class == fs.Fence:
		return "it is fenced by a deed that was cut short (fundus recover)"
	case !c.MountsAs(e.Type):
		return fmt.Sprintf("it holds %s, not %s", c.Kind, e.Type)
	case c.State == fs.Damaged:
		return "its superblock is damaged"
	case len(c.Unknown) > 0:
		return "it has features that are not known: " + strings.Join(c.Unknown, ", ")
	case c.Size > quantity.Bytes(n.Size):
		return fmt.Sprintf("the file system has %d bytes, the device only %d", c.Size, n.Size)
	}
	return ""
}
