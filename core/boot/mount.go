package boot

import (
	"slices"
	"strings"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/mounts"
	"fundus/core/text/fstab"
	"fundus/core/text/unit"
	"fundus/core/units"
)

// comes says whether a mount or an area of swap comes whose requirements are there.
func (m *machine) comes(n *node) {
	l := n.loaded
	if l == nil || !ownUnit(l) && !ofGenerator(l) {
		return // of systemd itself and of packages
	}
	e := entryOf(l)
	if n.name == rootUp { // it is mounted already, whatever the line names
		list := m.by.Resolve(e.Spec)
		if len(list) == 1 {
			n.device = list[0].Name
		}
		switch {
		// In the order in which each keeps the next from mattering: a refused remount leaves
		// every option out, whatever device the line names.
		case m.remountRefused() != "":
			n.remark = "by the command line, without the options of this line, which the kernel refuses: " + m.remountRefused()
		case !m.remounts():
			n.remark = "by the command line; the options of this line are not given to it, since what does that is not started"
		case len(list) == 0 && fstab.IsNode(l.What()):
			n.remark = "by the command line; no device has " + e.Spec + ", and so the options of this line are not given to it"
		case m.rootFound.node != "" && n.device != m.rootFound.node && n.device != "":
			n.remark, n.device = "the root is "+m.rootFound.node+" by the command line, and not "+n.device+", as this line says; it has the options of this line", m.rootFound.node
		}
		return
	}
	what, where := l.What(), l.Where()
	switch {
	// A bind names a directory, also where that lies below /dev.
	case fstab.IsNode(what) && !e.Has("bind") && !e.Has("rbind"):
		m.device(n, l, e)
	case e.Network():
		n.unsure("the boot does not depend on it")
	default:
		m.bare(n, l, e)
	}
	if n.state == done && !l.IsSwap() {
		m.place(n, where)
	}
}

// device holds what is to be mounted against what is on its device.
func (m *machine) device(n *node, l *units.Loaded, e fstab.Entry) {
	nodes := m.by.Resolve(e.Spec)
	switch {
	// udev keeps one link for all, and the device that was announced last has it: which that is,
	// nobody can say before the boot.
	case len(nodes) > 1:
		n.unsure("%s is carried by %s and %s: which is taken is chance", e.Spec, nodes[0].Name, nodes[1].Name)
		return
	case len(nodes) == 0: // it comes, and nobody has seen it
		n.unsure("what is in %s cannot be seen before it is opened", e.Spec)
		return
	}
	on := nodes[0]
	n.device = on.Name
	// A service that formats what is empty runs before the mount, so that its kind and options
	// are met by what it makes.
	if makes(n) && on.Zeros {
		n.remark = "it is formatted at boot, since it is empty"
		return
	}
	ask := mounts.Ask{On: on, Type: e.Type, Options: e.Options, Answers: m.v.Answers, Names: m.v.Names}
	if o := ask.Judge(); o != nil && o.Unsure {
		n.unsure("%s", o.Says)
		return
	} else if o != nil {
		n.fail("%s: %s", on.Name, o.Says)
		return
	}
	// Two units that cannot be mounted beside each other and do not wait for each other start at
	// the same moment.
	if o := m.rival(n, ask); o != nil {
		n.unsure("%s: %s; both are started at once, and which comes is chance", on.Name, o.Says)
		return
	}
	// What is mounted by then: the kernel refuses a second mount of a device that differs in
	// reading and writing, and a second XFS with the same UUID.
	ask.Beside = m.beside(n, ask)
	if o := m.excluded(n, ask); o != nil {
		n.fail("%s: %s", on.Name, o.Says)
	} else if state := m.left(on); state != "" && checked(n) {
		n.remark = "a check comes first, which may say more: " + state
	}
}

// excluded says what of all that is mounted by then is against the mount. Where the kernel refuses
// to write to what is mounted read-only, the mount program tries once more for reading alone, also
// against a rw of the line, and says in the log that it did.
func (m *machine) excluded(n *node, ask mounts.Ask) *mounts.Obstacle {
	o := ask.Excluded()
	if o == nil || o.Reason != mounts.Busy || ask.ReadOnly() {
		return o
	}
	reading := ask
	reading.Options = append(slices.Clone(ask.Options), "ro")
	// What stands against reading too is the answer.
	if again := reading.Excluded(); again != nil {
		return again
	}
	n.readOnly, n.remark = true, joined(n.remark, "read-only: "+o.Says)
	return nil
}

// left is how a file system was left, where that was not in order; it is in use now, or was
// unmounted, where nothing is said.
func (m *machine) left(on inventory.Node) string {
	c, _ := on.Content()
	switch state := inventory.StateOf(c, m.v.UsesOf(on.Name)); fs.State(state) {
	case fs.Dirty, fs.Recovery, fs.Errors:
		return state
	}
	return ""
}

// checked reports whether the mount waits for a check of its file system.
func checked(n *node) bool {
	return slices.ContainsFunc(n.requires, func(r *node) bool { return strings.HasPrefix(r.name, "systemd-fsck@") })
}

// makes reports whether a service makes first what the device has to hold.
func makes(n *node) bool {
	return slices.ContainsFunc(n.requires, func(r *node) bool {
		return strings.HasPrefix(r.name, "systemd-makefs@") || strings.HasPrefix(r.name, units.SwapService)
	})
}

// place says whether there is a directory to mount on. systemd makes a missing one where it can.
func (m *machine) place(n *node, where string) {
	there, looked := m.v.Dirs[where]
	on, over := m.holder(where)
	switch readOnly := m.readOnly(on, over); {
	case there:
	// Directories were looked at as the tree is now. Below a mount that is not there now, that
	// was the directory which the mount will cover.
	case m.v.Blocked[where] && over && !m.mountedNow(on):
		n.unsure("%s is a file, and no directory; what is at that place on what is mounted at %s before cannot be seen from here",
			where, on)
	case m.v.Blocked[where]:
		n.fail("the mount point %s is a file, and no directory", where)
	// A look at a directory of the network may hang for as long as its server is away; so none is
	// taken.
	case !looked && readOnly: // of the network, whose places are not looked at
		n.unsure("whether there is a directory %s was not looked at, and nothing can make it: what it is on is read-only", where)
	case !looked:
		n.remark = joined(n.remark, "systemd makes the directory "+where+" if it is missing")
	case readOnly && over && !m.mountedNow(on):
		n.unsure("whether there is a directory %s on what is mounted at %s cannot be seen from here, and nothing can make it: that is read-only",
			where, on)
	case readOnly && over:
		n.fail("the mount point %s is missing, and %s is read-only: nothing can make it", where, on)
	case readOnly:
		n.fail("the mount point %s is missing, and the root is read-only: nothing can make it", where)
	default:
		n.remark = joined(n.remark, "systemd makes the directory "+where)
	}
}

// joined puts two remarks side by side; either may be empty.
func joined(a, b string) string {
	if b == "" {
		return a
	}
	if a == "" {
		return b
	}
	return a + "; " + b
}

// holder is the place of the mount on which a directory lies; over is false for the root.
func (m *machine) holder(where string) (on string, over bool) {
	// The nearest one that this boot mounts: mounts further up are covered by it.
	for at := parent(where); at != "/"; at = parent(at) {
		if n, ok := m.graph.nodes[unit.Name(at, "mount")]; ok && n.job && n.loaded != nil && n.state == done {
			return at, true
		}
	}
	return "/", false
}

// mountedNow reports whether something is mounted at the place at this moment: only then does a look
// at its directories say what the next boot finds there.
func (m *machine) mountedNow(where string) bool {
	_, device := m.v.MountedAt(where)
	_, other := m.v.OtherAt(where)
	return device || other
}

// readOnly reports whether what is mounted at the place is to be read only.
func (m *machine) readOnly(where string, over bool) bool {
	if !over {
		return m.rootReadOnly()
	}
	e := entryOf(m.graph.node(unit.Name(where, "mount")).loaded)
	return m.graph.node(unit.Name(where, "mount")).readOnly || e.On("ro", "rw") || kind.OnlyRead(e.Type)
}

// remounts reports whether the root is given the options of its line: by a service that the reader
// of the table has local-fs.target want, unless it dies before.
func (m *machine) remounts() bool {
	n, ok := m.graph.nodes["systemd-remount-fs.service"]
	return ok && n.job && m.remountRefused() == ""
}

// staysReadOnly says why the root is read-only though its line does not ask for that; "" where it
// is not.
func (m *machine) staysReadOnly() string {
	for _, u := range m.linesOfRoot() {
		if !u.Entry.On("ro", "rw") && m.rootReadOnly() {
			if why := m.remountRefused(); why != "" {
				return "the root stays read-only, as the kernel mounts it: the options of its line are refused: " + why
			}
			return "the root stays read-only, as the kernel mounts it: nothing gives it the options of its line"
		}
	}
	return ""
}

// linesOfRoot are those of the mount point /, looked for once: each mount below asks.
func (m *machine) linesOfRoot() []fstab.Unit {
	if m.ofRoot == nil {
		m.ofRoot = []fstab.Unit{}
		for _, u := range m.lines {
			if u.Where == "/" && u.None == "" {
				m.ofRoot = append(m.ofRoot, u)
			}
		}
	}
	return m.ofRoot
}

// rootReadOnly reports whether the root is mounted read-only when the others are: by its line,
// which has its options given to it, else as the kernel was told, which does so unless it is
// told otherwise.
func (m *machine) rootReadOnly() bool {
	for _, u := range m.linesOfRoot() {
		// systemd gives the options of the line for / to the root whatever device that line
		// names, unless it names a device that is not there.
		names := !fstab.IsNode(u.What) || len(m.by.Resolve(u.Entry.Spec)) > 0 // else its options are given to nothing
		if names && m.remounts() {
			return u.Entry.On("ro", "rw")
		}
	}
	if m.facts.From == "" {
		return false // nothing says how
	}
	// The kernel mounts its root read-only unless a word says rw (init/do_mounts.c:
	// root_mountflags); the last of both words counts.
	ro := true
	for _, w := range m.facts.Words {
		switch {
		case w.Name == "rw" && !w.Valued:
			ro = false
		case w.Name == "ro" && !w.Valued:
			ro = true
		}
	}
	return ro
}

// bare is a mount or swap that no device is waited for: files, binds, what is in memory, and
// words that name nothing.
func (m *machine) bare(n *node, l *units.Loaded, e fstab.Entry) {
	what := l.What()
	there, looked := m.v.Sources[what]
	bound := e.Has("bind") || e.Has("rbind")
	hidden := m.covered(what)
	switch {
	case e.IsSwap() && !strings.HasPrefix(what, "/"):
		n.fail("%q is no path: nothing can be swapped on it", what)
	case e.IsSwap() && !looked:
		n.unsure("whether the file %s is there cannot be told", what)
	case e.IsSwap() && !there && !hidden:
		n.fail("there is no file %s", what)
	// A swap file on what is mounted before it: whether it is there shows only then.
	case e.IsSwap() && hidden:
		n.unsure("the file %s is on what is mounted before it, and cannot be seen from here", what)
	case e.IsSwap() && !m.looked(what):
		n.unsure("what is in the file %s could not be looked at", what)
	case e.IsSwap() && m.v.SwapFiles[what] != "":
		n.fail("nothing can be swapped on %s: %s", what, m.v.SwapFiles[what])
	case e.IsSwap():
		n.remark = "the file " + what + "; no device is waited for"
	case bound:
		m.bound(n, what, there || m.mounts(what))
	case inMemory(e.Type):
		if o := (mounts.Ask{Type: e.Type, Options: e.Options, Answers: m.v.Answers, Names: m.v.Names}).Memory(); o != nil && o.Unsure {
			n.unsure("%s", o.Says)
			return
		} else if o != nil {
			n.fail("%s", o.Says)
			return
		}
		n.remark = "in memory, needs no device"
	// What is in an image file is a file system of its own, which would have to be opened and
	// judged as a device is.
	case e.Has("loop") || strings.HasPrefix(what, "/"):
		n.unsure("%s is a file: what is in it is not looked at", what)
	case strings.Contains(what, "=") &&
		slices.Contains([]string{"UUID", "LABEL", "PARTUUID", "PARTLABEL"}, strings.SplitN(what, "=", 2)[0]):
		n.unsure("no device is waited for, since the unit names no path: it may be there in time, and may not")
	case slices.Contains(kind.MountTypes(), e.Type) && e.Type != "tmpfs":
		n.fail("%q is read as the name of a file: no device is waited for, and none is mounted", what)
	default:
		n.unsure("nothing is waited for; whether this kernel mounts %q cannot be told", e.Type)
	}
}

// looked reports whether a file to swap on could be looked into.
func (m *machine) looked(file string) bool {
	_, told := m.v.SwapFiles[file]
	return told
}

// bound is what is mounted a second time. systemd makes the source where it is missing, and where
// it can.
func (m *machine) bound(n *node, what string, there bool) {
	on, over := m.holder(what)
	switch readOnly := m.readOnly(on, over); {
	case there:
		n.remark = what + ", a second time; no device is waited for"
	case readOnly && over && !m.mountedNow(on):
		n.unsure("%s is on what is mounted before it, and cannot be seen from here", what)
	case readOnly:
		n.fail("there is no %s to be mounted a second time, and nothing can make it: what it is on is read-only", what)
	default:
		n.remark = what + ", a second time; systemd makes it where it is missing"
	}
}

// mounts reports whether the place is one that a unit mounts in this boot.
func (m *machine) mounts(where string) bool {
	n, ok := m.graph.nodes[unit.Name(where, "mount")]
	return ok && n.job && n.loaded != nil && n.state == done
}

// covered reports whether a path lies below a place that another unit mounts, and is not seen
// before.
func (m *machine) covered(path string) bool {
	on, over := m.holder(path + "/x") // at the place itself too
	return over && !m.mountedNow(on)
}

// inMemory lists what the kernel makes up by itself.
func inMemory(typ string) bool {
	return slices.Contains([]string{"tmpfs", "ramfs", "proc", "sysfs", "devpts", "devtmpfs", "debugfs", "tracefs",
		"securityfs", "cgroup", "cgroup2", "efivarfs", "mqueue", "hugetlbfs",
		"bpf", "configfs", "binfmt_misc", "pstore", "nfsd", "rpc_pipefs", "selinuxfs", "fusectl"}, typ)
}
