package boot

import (
	"slices"
	"strings"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/text/crypttab"
	"fundus/core/text/fstab"
	"fundus/core/text/unit"
)

// encrypted puts what crypttab has opened into the graph: each line is a service that needs its
// device and its key, and the mapped device needs the service.
func (g *graph) encrypted() {
	if !g.m.has("systemd-cryptsetup-generator") || !g.m.facts.Words.On("luks", true) {
		return
	}
	for _, e := range g.m.crypt {
		target := g.node("cryptsetup.target")
		if e.Has("_netdev") {
			target = g.node("remote-cryptsetup.target")
		}
		n := g.node("systemd-cryptsetup@" + strings.TrimSuffix(unit.Name("/"+e.Name, "service"), ".service") + ".service")
		if n.masked {
			continue
		}
		if what := fstab.Node(e.Device); fstab.IsNode(what) {
			device := g.node(unit.Name(what, "device"))
			if d, ok := fstab.Span(e.Value("x-systemd.device-timeout")); ok {
				device.wait = forever(d)
			}
			g.needs(n, device)
		}
		if e.Key == "" {
			n.asks = "somebody has to open " + e.Name + ": it waits for the passphrase"
		}
		mapped := g.node(unit.Name("/dev/mapper/"+e.Name, "device"))
		g.needs(mapped, n)
		switch nofail := e.Has("nofail"); {
		case e.Has("noauto"):
		case nofail:
			target.wants = append(target.wants, n)
		default:
			target.requires = append(target.requires, n)
			target.after = append(target.after, n)
		}
	}
}

// opened reports whether a device is an encrypted one that is open now, which no line of crypttab
// opens by itself.
func (m *machine) opened(n inventory.Node) bool {
	disk, _ := m.v.Node(n.Disk())
	if disk.Form != inventory.Volume || !slices.ContainsFunc(disk.BuiltOn, m.isEncrypted) {
		return false
	}
	return !slices.ContainsFunc(m.crypt, func(e crypttab.Entry) bool { return e.Name == disk.Alias && e.Key != "" && !e.Has("noauto") })
}

// holdsKey reports whether a node holds what is opened with a key.
func holdsKey(n inventory.Node) bool {
	c, ok := n.Content()
	return ok && c.Class == fs.Encrypted
}

// isEncrypted reports whether the node holds what has to be opened first: then what is in the device
// above it is not seen before somebody gives the passphrase.
func (m *machine) isEncrypted(name string) bool {
	n, ok := m.v.Node(name)
	return ok && holdsKey(n)
}

// locked names an encrypted device that is not open: anything may be in it.
func (m *machine) locked() string {
	for _, n := range m.v.Nodes {
		if holdsKey(n) && !m.v.Held(n.Name) {
			return n.Name
		}
	}
	return ""
}
