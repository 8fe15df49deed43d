package boot

import (
	"fmt"
	"slices"
	"strings"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/text/crypttab"
	"fundus/core/text/fstab"
	"fundus/core/text/unit"
	"fundus/core/units"
)

// machine is what the units are held against.
type machine struct {
	v        *inventory.Inventory
	hidden   []inventory.Node // partitions of which the kernel makes no devices
	by       *inventory.Resolver
	facts    facts
	lines    []fstab.Unit
	ofRoot   []fstab.Unit    // see linesOfRoot
	made     units.Generated // of fstab
	typed    []byType        // partitions that are found by their types
	crypt    []crypttab.Entry
	packaged bool // the units of packages are there
	graph    *graph
	shared   map[string][]*node // see sharers
	refused  *string            // see remountRefused

	rootFound found
}

// Places of what generators write.
const (
	generated = "/run/systemd/generator"
	lateDir   = "/run/systemd/generator.late"
)

// load puts all units together: of people and packages, of fstab, and of types of partitions, in
// the order in which systemd looks for them.
func (m *machine) load() []units.Loaded {
	var places []units.Place
	late := units.Place{Dir: lateDir, Tree: units.Tree{}}
	made := units.Place{Dir: generated, Tree: units.Tree{}}
	if m.has("systemd-fstab-generator") {
		m.made = units.Generate(m.lines, units.Facts{Words: m.facts.Words})
		made.Tree = m.made.Normal
		for name, e := range m.made.Late {
			late.Tree[name] = e
		}
	}
	m.byTypes(late.Tree)
	put := false
	for _, p := range m.v.UnitFiles {
		if strings.HasPrefix(p.Dir, "/usr/lib/") {
			m.packaged = m.packaged || len(p.Tree) > 0
		}
		if strings.HasPrefix(p.Dir, "/usr/") && !put {
			places, put = append(places, made), true
		}
		places = append(places, p)
	}
	if !put {
		places = append(places, made)
	}
	all := units.Every(append(places, late))
	for _, word := range m.facts.Words.Values("systemd.mask") {
		for i := range all {
			if name, ok := unit.Meant(word); ok && all[i].Name == name {
				all[i].Masked = true
			}
		}
	}
	return all
}

// ofGenerator reports whether the unit is made at boot: of a line, or of a partition's type.
func ofGenerator(l *units.Loaded) bool {
	return strings.HasPrefix(l.Path, generated+"/") || strings.HasPrefix(l.Path, lateDir+"/")
}

// ownUnit reports whether people keep the unit.
func ownUnit(l *units.Loaded) bool {
	return l.Kept() && !strings.HasPrefix(l.Path, generated)
}

// appears says whether a device comes, and when it is given up.
func (m *machine) appears(n *node) {
	path := unit.PathOf(n.name)
	spec := fstab.Spec(path)
	found := m.by.Resolve(spec)
	if n.state == unsure {
		return
	}
	switch {
	case m.elsewhere(spec):
		n.unsure("%s: which name a disk has there is not known here; an identifier is", spec)
	case len(found) > 0 && slices.ContainsFunc(found, m.attached):
		n.unsure("%s is attached by hand or by a service: whether it is at the next boot cannot be told", found[0].Name)
	case len(found) > 0 && slices.ContainsFunc(found, m.opened):
		n.unsure("%s is open now; what opens it at the next boot cannot be told", found[0].Name)
	case len(found) > 0:
		n.device = found[0].Name
	case len(n.requires) > 0: // of crypttab, which is opened
	case strings.HasPrefix(spec, "/dev/") && !m.plain(spec):
		n.unsure("%s: only plain device names and identifiers are modelled", spec)
	case m.unread() != "":
		n.unsure("no device that can be read has %s; it may be on %s", spec, m.unread())
	case m.locked() != "":
		n.unsure("no device has %s; it may be in %s, which is not open", spec, m.locked())
	default:
		n.fail("%s", m.missing(spec))
		n.end = later(n.begin, n.wait)
	}
}

// attached reports whether a device comes and goes with a file that is laid under it.
func (m *machine) attached(n inventory.Node) bool {
	disk, _ := m.v.Node(n.Disk())
	return disk.Hardware.Bus == "loop"
}

// plain reports whether a path is one that the kernel gives, or one whose links are known.
func (m *machine) plain(path string) bool {
	for _, begin := range []string{"/dev/sd", "/dev/vd", "/dev/nvme", "/dev/xvd", "/dev/hd", "/dev/mmcblk", "/dev/ubd", "/dev/md"} {
		if strings.HasPrefix(path, begin) {
			return true
		}
	}
	return slices.ContainsFunc(m.v.Nodes, func(n inventory.Node) bool {
		return path == n.Path || strings.HasPrefix(path, "/dev/disk/") && len(n.Links) > 0
	})
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
func (m *machine) missing(spec string) string {
	if words := m.unseen(spec); words != "" {
		return words
	}
	for _, n := range m.v.Nodes {
		if c, ok := n.Content(); ok && c.Class == fs.Fence {
			return fmt.Sprintf("no device has %s; %s is fenced by a deed that was cut short (fundus recover)", spec, n.Name)
		}
	}
	return "no device has " + spec
}
