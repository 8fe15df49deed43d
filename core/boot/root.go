package boot

import (
	"fmt"
	"slices"
	"strings"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/mounts"
	"fundus/core/refs"
	"fundus/core/text/fstab"
	"fundus/core/text/unit"
)

// onlyInitrd reports whether a name of the root is one that the kernel alone cannot resolve.
func onlyInitrd(name string) bool {
	for _, begin := range []string{"UUID=", "LABEL=", "/dev/mapper/", "/dev/disk/"} {
		if strings.HasPrefix(name, begin) {
			return true
		}
	}
	return false
}

// found is what is said of the root.
type found struct {
	node    string // "" where it is not known
	words   string
	verdict Verdict // NoRoot or Untold; "" where it is found, or nothing is said
	why     string
}

// root finds the root that the command line names.
//
// The kernel itself resolves the names of its own devices, numbers, PARTUUID= and PARTLABEL=
// (init/do_mounts.c: name_to_dev_t); all others need an initial file system.
func (m *machine) root() found {
	word, at := m.facts.Words.Last("root"), ""
	// The root is then a file system in memory, and fstab that of another tree.
	if how := m.facts.Words.Last("systemd.volatile"); how == "yes" || how == "overlay" {
		return found{verdict: Untold, why: "systemd.volatile=" + how + " puts another root over the one on the disk, which is not modelled"}
	}
	// Without the kernel's command line (an image, a tree below a directory) the line of fstab
	// for / is the best there is to go by.
	if m.facts.From == "" { // then it is what its line says
		for _, u := range m.lines {
			if u.Where == "/" && u.None == "" {
				word, at = u.Entry.Spec, fmt.Sprintf("line %d, %s", u.Line, u.Entry.Spec)
			}
		}
	}
	switch {
	// systemd finds the root by the type of its partition: which that is, the line or what is
	// mounted now says.
	case word == "" || word == "gpt-auto":
		return found{node: m.rootNow()} // by its type
	// No device of this machine: nothing on disks decides whether it is there.
	case strings.HasPrefix(word, "/dev/nfs"), strings.Contains(word, ":/"), slices.Contains([]string{"tmpfs", "fstab", "/dev/root", "/dev/ram0"}, word):
		return found{node: m.rootNow(), words: "root=" + word}
	case onlyInitrd(word) && m.facts.Initrd == No:
		return found{
			verdict: NoRoot,
			why:     fmt.Sprintf("root=%s: without an initial file system the kernel knows no such name; PARTUUID= it does", word),
		}
	}
	if at == "" {
		at = "root=" + word
	}
	if usr := m.facts.Words.Last("mount.usr"); usr != "" && m.facts.Initrd == Yes && len(m.named(usr)) == 0 {
		return found{
			verdict: Untold,
			why:     "mount.usr=" + usr + " names no device: what an initial file system makes of that cannot be told",
		}
	}
	list := m.named(word)
	switch {
	case m.elsewhere(word):
		return found{verdict: Untold, why: at + ": which name a disk has there is not known here; an identifier is"}
	// A disk that could not be read may carry it: "not there" would be a guess.
	case len(list) == 0 && m.unread() != "":
		return found{verdict: Untold, why: fmt.Sprintf("%s: no device that can be read has it; it may be on %s", at, m.unread())}
	case len(list) == 0 && (!m.plain(word) && strings.HasPrefix(word, "/dev/") || m.locked() != "" && strings.Contains(word, "UUID=")):
		return found{verdict: Untold, why: at + ": what it names cannot be seen from here"}
	case len(list) == 0:
		return found{verdict: NoRoot, why: at + ": " + m.missing(word)}
	case len(list) > 1:
		return found{
			verdict: Untold,
			why:     fmt.Sprintf("%s is carried by %s and %s: which is taken is chance", at, list[0].Name, list[1].Name),
		}
	}
	n := list[0]
	c, ok := n.Content()
	e := fstab.Entry{Type: m.facts.Words.Last("rootfstype")}
	// The kernel tries all kinds it knows, and so does mounts for "auto".
	if e.Type == "" {
		e.Type = "auto"
	}
	ask := mounts.Ask{On: n, Type: e.Type, Options: m.facts.rootOptions(), Answers: m.v.Answers, Names: m.v.Names}
	if o := ask.Judge(); o != nil && o.Unsure {
		return found{verdict: Untold, why: fmt.Sprintf("%s is %s: %s", at, n.Name, o.Says)}
	} else if o != nil && !(ok && (c.Class == fs.Encrypted || c.Class == fs.Member)) {
		return found{verdict: NoRoot, why: fmt.Sprintf("%s is %s: %s", at, n.Name, o.Says)}
	}
	return found{node: n.Name, words: fmt.Sprintf("%s is %s", at, n.Name)}
}

// elsewhere reports whether the word is a name that the kernel of another machine gives: that of
// the system below a directory.
func (m *machine) elsewhere(word string) bool {
	return m.v.Machine.Root != "" && strings.HasPrefix(word, "/dev/") && !strings.HasPrefix(word, "/dev/disk/") &&
		!strings.HasPrefix(word, "/dev/mapper/")
}

// named gives the nodes that a word of the command line means.
func (m *machine) named(word string) []inventory.Node {
	if tag, value, is := strings.Cut(word, "="); is && tag == "PARTUUID" {
		value, _, _ = strings.Cut(value, "/PARTNROFF=")
		word = "PARTUUID=" + strings.ToLower(value)
		// The kernel compares the letters of a PARTUUID without their case; udev's links, which
		// an initial file system goes by, are in small ones.
		if list := m.by.Resolve(word); len(list) > 0 || m.facts.Initrd == Yes {
			return list
		}
		word = "PARTUUID=" + value
	}
	if major, minor, is := strings.Cut(word, ":"); is && !strings.HasPrefix(word, "/") {
		return slices.DeleteFunc(slices.Clone(m.v.Nodes), func(n inventory.Node) bool { return n.Device != major+":"+minor })
	}
	return m.by.Resolve(refs.Normal(word))
}

// rootNow is the node of the root as far as it is known otherwise: by its line, or by what is
// mounted now.
func (m *machine) rootNow() string {
	for _, u := range m.lines {
		if list := m.by.Resolve(u.Entry.Spec); u.Where == "/" && u.None == "" && len(list) == 1 {
			return list[0].Name
		}
	}
	if u, ok := m.v.MountedAt("/"); ok {
		return u.Node
	}
	return ""
}

// ownPlace says why nobody can tell what becomes of a boot in which systemd's own files are covered
// by a mount: without an initial file system it runs from the root, and reads the rest of them
// from what is put over them. "" where nothing is.
func (m *machine) ownPlace() string {
	for _, u := range m.lines {
		if u.Where == "/usr" && u.None == "" && u.Tie != fstab.Untied && m.facts.Initrd == No {
			return fmt.Sprintf("/usr (line %d) is mounted over the system's own programs after systemd has started from them: without an initial file system, which mounts it before, nobody can tell what comes of that",
				u.Line)
		}
	}
	return ""
}

// resumes says what becomes of the search for a sleeping system; "" where nothing holds it up.
func (m *machine) resumes() string {
	word := m.facts.Words.Last("resume")
	if word == "" || m.facts.Words.Has("noresume") || m.facts.Initrd == No || len(m.named(word)) > 0 || m.unread() != "" {
		return ""
	}
	return fmt.Sprintf("resume=%s names no device: the initial file system waits for it, how long cannot be told", word)
}

// goal is the target that the boot is to reach; asked is set where the command line asks for the
// emergency shell itself.
func (m *machine) goal(g *graph) (n *node, asked string) {
	// The last word wins, as with the kernel and with systemd.
	name := "default.target"
	for _, w := range m.facts.Words {
		switch w.Name {
		case "systemd.unit":
			name = w.Value
		case "single", "s", "S", "1", "rescue":
			if !w.Valued {
				name = "rescue.target"
			}
		case "emergency", "-b":
			if !w.Valued {
				name = "emergency.target"
			}
		}
	}
	if name == "emergency.target" {
		return nil, "the command line asks for it"
	}
	if name == "default.target" {
		name = "graphical.target"
		if d := g.node("default.target"); d.loaded != nil && d.loaded.Link != "" {
			name = d.loaded.Link[strings.LastIndexByte(d.loaded.Link, '/')+1:]
		}
	}
	// A boot to a single service or mount: the way there is part of the usual one, which is
	// judged in its place.
	if unit.Suffix(name) != ".target" {
		name = "graphical.target"
	}
	return g.node(name), ""
}
