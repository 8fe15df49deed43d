package units

import (
	"cmp"
	"maps"
	"path"
	"slices"
	"strings"

	"fundus/core/text/fstab"
	"fundus/core/text/unit"
)

// Dirs lists the directories of units of the system itself, from the one that counts before
// all others. What the generator makes of fstab stands before the last two.
//
// Source: systemd.unit(5), table 1.
func Dirs() []string {
	return []string{"/etc/systemd/system", "/run/systemd/system", "/usr/local/lib/systemd/system", "/usr/lib/systemd/system"}
}

// Place is a directory of units, with what lies in it.
type Place struct {
	Dir  string
	Tree Tree
}

// Relevant reports whether a name in a directory of units is about mounts, automounts, swap or
// devices, and how: as a unit, or as a directory of drop-ins; or whether it may hold links to
// such.
func Relevant(name string) bool {
	if of, is := strings.CutSuffix(name, ".d/"); is {
		return ofKind(of) || strings.HasSuffix(of, ".device")
	}
	return ofKind(name) || strings.HasSuffix(name, ".wants/") || strings.HasSuffix(name, ".requires/")
}

func ofKind(name string) bool {
	return slices.Contains([]string{".mount", ".automount", ".swap"}, unit.Suffix(name))
}

// Loaded is a unit as it counts: of several files with its name the one in the first directory,
// with the drop-ins of all.
type Loaded struct {
	Name   string
	Path   string // of the file
	Link   string // where that leads, if it is a link
	Masked bool   // it leads nowhere: nothing starts it
	Own    *unit.File
	// DropIns are the paths of further files, in the order in which they are read.
	DropIns []string
	dropped []*unit.File
	By      []Pull   // what pulls it in
	Hidden  []string // files with its name that do not count
}

// Pull is a link that pulls a unit in.
type Pull struct {
	Target string
	Tie    fstab.Tie
	Path   string // of the link
}

// Load gives the units of the places, in the order of their names.
func Load(places []Place) (out []Loaded) {
	at := map[string]int{}
	for _, p := range places {
		for _, name := range p.Tree.Paths() {
			e := p.Tree[name]
			if strings.Contains(name, "/") || !ofKind(name) {
				continue
			}
			full := path.Join(p.Dir, name)
			if i, there := at[name]; there {
				out[i].Hidden = append(out[i].Hidden, full)
				continue
			}
			at[name] = len(out)
			masked := e.Masked || e.To == "/dev/null" || e.To == "" && len(strings.TrimSpace(string(e.Data))) == 0
			out = append(out, Loaded{Name: name, Path: full, Link: e.To, Masked: masked, Own: unit.Parse(e.Data)})
		}
	}
	for i := range out {
		out[i].dropIns(places)
		out[i].pulled(places)
	}
	slices.SortFunc(out, func(a, b Loaded) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

// dropIns are those of every directory, by their names; of those with the same name the one in
// the first directory counts.
func (l *Loaded) dropIns(places []Place) {
	found := map[string]string{}
	data := map[string][]byte{}
	for _, p := range places {
		for name, e := range p.Tree {
			base, is := strings.CutPrefix(name, l.Name+".d/")
			if _, before := found[base]; is && !before && strings.HasSuffix(base, ".conf") {
				found[base], data[base] = path.Join(p.Dir, name), e.Data
			}
		}
	}
	for _, base := range slices.Sorted(maps.Keys(found)) {
		l.DropIns = append(l.DropIns, found[base])
		l.dropped = append(l.dropped, unit.Parse(data[base]))
	}
}

func (l *Loaded) pulled(places []Place) {
	for _, p := range places {
		for _, name := range p.Tree.Paths() {
			dir, base := path.Split(name)
			if base != l.Name {
				continue
			}
			for suffix, tie := range map[string]fstab.Tie{".wants/": fstab.Wanted, ".requires/": fstab.Required} {
				if target, is := strings.CutSuffix(dir, suffix); is {
					l.By = append(l.By, Pull{target, tie, path.Join(p.Dir, name)})
				}
			}
		}
	}
}

// Get is the value of a key as it counts: the last one.
func (l Loaded) Get(section, key string) string {
	value := ""
	for _, f := range append([]*unit.File{l.Own}, l.dropped...) {
		if s, ok := f.Get(section, key); ok {
			value = s.Value
		}
	}
	return strings.ReplaceAll(value, "%%", "%")
}

// All are the values of a key that may stand several times, word by word.
func (l Loaded) All(section, key string) (out []string) {
	for _, f := range append([]*unit.File{l.Own}, l.dropped...) {
		for _, s := range f.Settings {
			if s.Section == section && s.Key == key {
				if s.Value == "" {
					out = nil // it takes back those before
				}
				out = append(out, strings.Fields(strings.ReplaceAll(s.Value, "%%", "%"))...)
			}
		}
	}
	return out
}

// section is the one that its type has.
func (l Loaded) section() string {
	switch unit.Suffix(l.Name) {
	case ".swap":
		return "Swap"
	case ".automount":
		return "Automount"
	}
	return "Mount"
}

// What and Where are the device and the place.
func (l Loaded) What() string  { return l.Get(l.section(), "What") }
func (l Loaded) Where() string { return l.Get(l.section(), "Where") }

// Kept reports whether it is one that people keep: those of systemd itself and of packages lie
// elsewhere.
func (l Loaded) Kept() bool {
	return strings.HasPrefix(l.Path, "/etc/") || strings.HasPrefix(l.Path, "/run/")
}

// IsSwap reports whether it is a swap area's.
func (l Loaded) IsSwap() bool { return l.section() == "Swap" }

// Options are those of a mount or of swap.
func (l Loaded) Options() []string { return fstab.Split(l.Get(l.section(), "Options")) }

// Tie is how the boot depends on it, by its links.
func (l Loaded) Tie() fstab.Tie {
	tie := fstab.Untied
	for _, by := range l.By {
		if by.Tie == fstab.Required {
			return fstab.Required
		}
		tie = by.Tie
	}
	return tie
}
