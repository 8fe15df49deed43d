package boot

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"fundus/core/text/fstab"
	"fundus/core/text/unit"
	"fundus/core/units"
)

// node is a unit in the graph.
type node struct {
	name   string
	loaded *units.Loaded // nil: of systemd itself, or only named by others
	line   int           // of fstab, of which it was made
	masked bool
	absent string // why there is no such unit; "" where there is one

	requires []*node // pulled in; fails with them
	wants    []*node // pulled in
	after    []*node
	wait     time.Duration // of a device, before it is given up
	tests    string        // a condition on which it is started
	asks     string        // what a person has to do first

	run // what the walk makes of it
}

// run is what becomes of a unit in the boot.
type run struct {
	job        bool
	cannot     string // why it is not started, though it is asked for
	state      state
	begin, end time.Duration
	why        string
	from       *node // of what it fails
	device     string
	chance     string  // what it depends on whether it is started
	stopped    *node   // by what
	doubt      bool    // it might fail, were it started
	circle     []*node // in which it waits
	readOnly   bool    // of one that comes: it is for reading alone, though its line does not say so
	remark     string  // of one that comes
}

// state is how a unit ends.
type state int

const (
	done state = iota
	failed
	unsure
)

// graph is all units of a boot by their names.
type graph struct {
	m     *machine
	nodes map[string]*node
}

// Names of targets.
const (
	localFS = "local-fs.target"
	swaps   = "swap.target"
	remote  = "remote-fs.target"
	sysinit = "sysinit.target"
	basic   = "basic.target"
	multi   = "multi-user.target"
	rootUp  = "-.mount"
)

// node gives the unit of a name, and makes one that nobody described.
func (g *graph) node(name string) *node {
	if n, ok := g.nodes[name]; ok {
		return n
	}
	n := &node{name: name}
	g.nodes[name] = n
	switch unit.Suffix(name) {
	case ".device": // nobody writes those: one comes about as soon as anything waits for it
		n.wait = g.m.facts.wait
	case ".mount":
		if name != rootUp {
			n.absent = "there is no unit " + name
		}
	case ".automount", ".swap":
		n.absent = "there is no unit " + name
	case ".service", ".target", ".socket", ".path", ".timer":
		// Where the package's units are not to be seen, they may be there: what nobody described is
		// then taken for one that starts.
		if g.m.packaged && !strings.Contains(name, "@") && !strings.HasPrefix(name, "systemd-") && !slices.Contains(g.m.own(), name) {
			n.absent = "there is no unit " + name
		}
	}
	if check, is := strings.CutPrefix(name, "systemd-fsck@"); is {
		g.needs(n, g.node(strings.TrimSuffix(check, ".service")+".device"))
	}
	return n
}

// needs has one unit require another one, and wait for it: what systemd adds by itself is always
// both, while a file may say the one without the other. What a unit says of itself counts for
// nothing.
func (g *graph) needs(n, other *node) {
	if n == other {
		return
	}
	n.requires, n.after = append(n.requires, other), append(n.after, other)
}

// own are the targets that systemd has, with what ties them together.
func (m *machine) own() []string {
	return []string{localFS, "local-fs-pre.target", swaps, remote, "remote-fs-pre.target", sysinit, basic, multi,
		"graphical.target", "rescue.target", "emergency.target", "cryptsetup.target",
		"shutdown.target", "umount.target", "network.target", "network-online.target", "default.target"}
}

// build makes the graph of the loaded units. The order matters: all units first, since what lies on
// the way to a path is only found among those; then what each says; the links last, since whether a
// target waits for what it pulls in goes by what both said.
func build(m *machine, all []units.Loaded) *graph {
	g := &graph{m: m, nodes: map[string]*node{}}
	for i := range all {
		l := &all[i]
		if l.Path == "" && unit.Suffix(l.Name) != ".device" {
			g.node(l.Name).loaded = l // a target of systemd itself, or what nobody has
			continue
		}
		n := &node{name: l.Name, loaded: l, masked: l.Masked, line: m.made.Lines[l.Name], tests: l.Condition()}
		if !ofGenerator(l) { // somebody's own counts in the place of what was made of the line
			n.line = 0
		}
		if why := refusedBySystemd(l); why != "" && !l.Masked {
			n.absent = why
		}
		if unit.Suffix(l.Name) == ".device" {
			n.wait = m.facts.wait
			if d, ok := fstab.Span(l.Get("Unit", "JobRunningTimeoutSec")); ok {
				n.wait = forever(d)
			}
		}
		g.nodes[l.Name] = n
	}
	g.targets()
	for i := range all {
		if n := g.nodes[all[i].Name]; !n.masked {
			g.described(n)
		}
	}
	for i := range all {
		g.pulls(&all[i])
	}
	g.encrypted()
	return g
}

// refusedBySystemd says why systemd does not load a unit: its name has to be that of its path.
func refusedBySystemd(l *units.Loaded) string {
	suffix := unit.Suffix(l.Name)
	path := l.Where()
	switch suffix {
	case ".swap":
		path = l.What()
	case ".mount", ".automount":
	default:
		return ""
	}
	if !strings.HasPrefix(path, "/") || unit.Name(path, suffix[1:]) != l.Name {
		return fmt.Sprintf("systemd refuses %s: it is about %q", l.Name, path)
	}
	return ""
}

// forever is a span as systemd takes it: none is one without an end.
func forever(d time.Duration) time.Duration {
	if d == 0 {
		return fstab.Forever
	}
	return d
}

// targets are those of systemd itself, tied as its own files tie them (systemd.special(7)). One that
// somebody keeps a file for, or masks, is as that says.
func (g *graph) targets() {
	tie := func(name, requires string, wants ...string) {
		n := g.node(name)
		if n.loaded != nil && n.loaded.Kept() || n.masked {
			return
		}
		if requires != "" {
			g.needs(n, g.node(requires))
		}
		for _, w := range wants {
			o := g.node(w)
			n.wants, n.after = append(n.wants, o), append(n.after, o)
		}
	}
	tie("graphical.target", multi)
	tie("rescue.target", sysinit)
	tie(multi, basic)
	tie(basic, sysinit, "tmp.mount")
	g.paths(g.node(basic), "/var", "/var/tmp")
	tie(sysinit, "", localFS, swaps, "cryptsetup.target")
	if !g.m.packaged { // their links are not there
		tie(multi, "", remote)
	}
}

// described takes up what stands in the unit's files, and what systemd adds. At a start, BindsTo and
// Requisite fail with what they name as Requires does (systemd.unit(5)); how they differ comes after
// the boot.
func (g *graph) described(n *node) {
	l := n.loaded
	others := func(keys ...string) (out []*node) {
		for _, key := range keys {
			for _, name := range l.All("Unit", key) {
				if o := g.node(filled(name, n.name)); o != n {
					out = append(out, o)
				}
			}
		}
		return out
	}
	n.requires = append(n.requires, others("Requires", "BindsTo", "Requisite")...)
	n.wants = append(n.wants, others("Wants")...)
	n.after = append(n.after, others("After")...)
	for _, o := range others("Before") {
		o.after = append(o.after, n)
	}
	g.paths(n, l.All("Unit", "RequiresMountsFor")...)
	switch unit.Suffix(n.name) {
	case ".mount":
		g.mount(n)
	case ".swap":
		g.swap(n)
	case ".automount":
		g.paths(n, parent(l.Where()))
		g.before(n, localFS)
	case ".service", ".socket", ".path", ".timer":
		g.service(n)
	}
}

// filled puts the unit's own name into the name of another one: of the specifiers of
// systemd.unit(5) those that say nothing of the running machine.
func filled(name, own string) string {
	if !strings.Contains(name, "%") {
		return name
	}
	stem := strings.TrimSuffix(own, unit.Suffix(own))
	prefix, instance, _ := strings.Cut(stem, "@")
	return strings.NewReplacer("%i", instance, "%n", own, "%N", stem, "%p", prefix, "%%", "%").Replace(name)
}

// before has a target wait for the unit, unless it has no dependencies of its own.
func (g *graph) before(n *node, target string) {
	if !n.loaded.Alone() {
		t := g.node(target)
		t.after = append(t.after, n)
	}
}

// paths has the unit require all that is mounted on the way to the paths. A mask or a unit that
// systemd refuses ties nobody: the path is then looked for on what lies below.
func (g *graph) paths(n *node, paths ...string) {
	for _, p := range paths {
		if !strings.HasPrefix(p, "/") {
			continue
		}
		for at := fstab.FromRoot(p); ; at = parent(at) {
			if m, ok := g.nodes[unit.Name(at, "mount")]; ok && m != n && m.loaded != nil && !m.masked && m.absent == "" {
				g.needs(n, m)
			}
			if at == "/" {
				break
			}
		}
	}
}

// parent is the directory of a path.
func parent(p string) string {
	at := strings.LastIndexByte(p, '/')
	if at <= 0 {
		return "/"
	}
	return p[:at]
}

// mount is what systemd adds to one by itself (systemd.mount(5), implicit and default
// dependencies): its device, what lies above its mount point and its source, and the target that
// waits for it. A line with nofail is wanted by the target, which then goes on without it.
func (g *graph) mount(n *node) {
	l := n.loaded
	e := entryOf(l)
	what, where := l.What(), l.Where()
	bind := e.Has("bind") || e.Has("rbind")
	if fstab.IsNode(what) && !bind && where != "/" {
		g.needs(n, g.node(unit.Name(what, "device")))
	}
	if where != "/" {
		g.paths(n, parent(where))
	}
	if strings.HasPrefix(what, "/") && !fstab.IsNode(what) && (bind || e.Has("loop") || !e.Network()) {
		g.paths(n, what)
	}
	if a, ok := g.nodes[strings.TrimSuffix(n.name, ".mount")+".automount"]; ok && a.loaded != nil {
		// Whoever needs the place meets the automount; the mount itself follows at the first access.
		n.after = append(n.after, a)
	}
	if e.NoFail() {
		return
	}
	if e.Network() {
		g.before(n, remote)
		return
	}
	g.before(n, localFS)
}

// swap is what systemd adds to one (systemd.swap(5)): the target waits for it whatever it says, also
// with nofail, which is how an area of swap that is not there holds up a boot.
func (g *graph) swap(n *node) {
	what := n.loaded.What()
	if fstab.IsNode(what) {
		g.needs(n, g.node(unit.Name(what, "device")))
	} else {
		g.paths(n, what)
	}
	g.before(n, swaps)
}

// service is what systemd adds to services and their like (systemd.exec(5) for the directories,
// systemd.service(5) for the rest): only what may wait for a mount. A socket, path or timer comes
// before basic.target, a service after it.
func (g *graph) service(n *node) {
	l := n.loaded
	for _, key := range []string{"WorkingDirectory", "RootDirectory", "RootImage"} {
		g.paths(n, strings.TrimPrefix(l.Get("Service", key), "-"))
	}
	for key, below := range map[string]string{
		"StateDirectory":         "/var/lib/",
		"CacheDirectory":         "/var/cache/",
		"LogsDirectory":          "/var/log/",
		"RuntimeDirectory":       "/run/",
		"ConfigurationDirectory": "/etc/",
	} {
		for _, dir := range l.All("Service", key) {
			g.paths(n, below+dir)
		}
	}
	if l.Get("Service", "PrivateTmp") == "yes" || l.Get("Service", "PrivateTmp") == "true" {
		g.paths(n, "/tmp", "/var/tmp")
	}
	if l.Alone() {
		return
	}
	g.needs(n, g.node(sysinit))
	if unit.Suffix(n.name) == ".service" {
		n.after = append(n.after, g.node(basic))
	}
}

// pulls takes up the links that pull a unit in. A target waits for what it pulls in, unless one
// of both has no dependencies by itself, or waits for the other.
func (g *graph) pulls(l *units.Loaded) {
	n := g.nodes[l.Name]
	for _, by := range l.By {
		g.pull(g.node(by.Target), n, by.Tie)
	}
	if unit.Suffix(l.Name) == ".target" && !n.masked {
		for _, o := range slices.Concat(n.requires, n.wants) {
			g.waits(n, o)
		}
	}
}

func (g *graph) pull(target, n *node, tie fstab.Tie) {
	if target.masked || target == n {
		return
	}
	if tie == fstab.Required {
		target.requires = append(target.requires, n)
	} else {
		target.wants = append(target.wants, n)
	}
	g.waits(target, n)
}

// waits adds the order between a target and what it pulls in.
func (g *graph) waits(target, n *node) {
	if unit.Suffix(target.name) != ".target" || slices.Contains([]string{localFS, remote}, target.name) ||
		target.loaded != nil && target.loaded.Alone() {
		return
	}
	if n.loaded == nil || n.loaded.Alone() || slices.Contains(n.after, target) || slices.Contains(target.after, n) {
		return
	}
	target.after = append(target.after, n)
}

// entryOf is what a mount or a swap unit says, as a line of fstab would.
func entryOf(l *units.Loaded) fstab.Entry {
	e := fstab.Entry{Spec: fstab.Spec(l.What()), Dir: l.Where(), Type: l.Get("Mount", "Type"), Options: l.Options()}
	if e.Type == "" {
		e.Type = "auto"
	}
	if l.IsSwap() {
		e.Type, e.Dir = fstab.Swap, "none"
		if p := l.Get("Swap", "Priority"); p != "" {
			e.Options = append(e.Options, "pri="+p)
		}
	}
	return e
}
