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
		return ofKind(of) || strings.HasSuffix(of, ".device") || ofKind("x."+of)
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

// Load gives the units of mounts, automounts and swap of the places, in the order of their names.
func Load(places []Place) (out []Loaded) { return load(places, ofKind) }

// Every gives the units of every type, and those that have no file: of which there are drop-ins
// alone, such as devices, or which links alone name. Their paths are empty.
func Every(places []Place) (out []Loaded) {
	return load(places, func(name string) bool { return unit.Suffix(name) != "" })
}

func load(places []Place, counts func(name string) bool) (out []Loaded) {
	at := map[string]int{}
	beside := beside{map[string][]Pull{}, map[string]map[string]file{}}
	for _, p := range places {
		for _, name := range p.Tree.Paths() {
			e := p.Tree[name]
			if strings.Contains(name, "/") {
				beside.add(p.Dir, name, e)
				continue
			}
			full := path.Join(p.Dir, name)
			i, there := at[name]
			switch {
			case !counts(name):
			case there:
				out[i].Hidden = append(out[i].Hidden, full)
			default:
				at[name] = len(out)
				masked := e.Masked || e.To == "/dev/null" || e.To == "" && len(strings.TrimSpace(string(e.Data))) == 0
				out = append(out, Loaded{Name: name, Path: full, Link: e.To, Masked: masked, Own: unit.Parse(e.Data)})
			}
		}
	}
	for of := range beside.drops {
		if _, there := at[of]; !there && counts("x.service") && unit.Suffix(of) != "" && !ofKind(of) {
			at[of] = len(out)
			out = append(out, Loaded{Name: of, Own: unit.Parse(nil)})
		}
	}
	for name := range beside.pulls {
		if _, there := at[name]; !there && counts("x.service") {
			out = append(out, Loaded{Name: name, Own: unit.Parse(nil)})
		}
	}
	for i := range out {
		out[i].By = beside.pulls[out[i].Name]
		out[i].DropIns, out[i].dropped = beside.dropIns(out[i].Name)
	}
	slices.SortFunc(out, func(a, b Loaded) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

// beside is what lies in the directories beside units: links that pull them in, by the name of
// the unit, and drop-ins, by the name of the directory and their own.
type beside struct {
	pulls map[string][]Pull
	drops map[string]map[string]file
}

type file struct {
	path string
	data []byte
}

// add takes up what lies in a directory; of drop-ins with the same name the first one counts.
func (b beside) add(dir, name string, e Entry) {
	in, base := path.Split(name)
	for suffix, tie := range map[string]fstab.Tie{".wants/": fstab.Wanted, ".requires/": fstab.Required} {
		if target, is := strings.CutSuffix(in, suffix); is {
			b.pulls[base] = append(b.pulls[base], Pull{target, tie, path.Join(dir, name)})
		}
	}
	if of, is := strings.CutSuffix(in, ".d/"); is && strings.HasSuffix(base, ".conf") {
		if b.drops[of] == nil {
			b.drops[of] = map[string]file{}
		}
		if _, before := b.drops[of][base]; !before {
			b.drops[of][base] = file{path.Join(dir, name), e.Data}
		}
	}
}

// dropIns are those of a unit, by their names: of its own directory, of those of all whose names
// begin with the same parts, and of all of its type.
func (b beside) dropIns(name string) (paths []string, files []*unit.File) {
	found := map[string]file{}
	for _, of := range familyOf(name) {
		for base, f := range b.drops[of] {
			if _, before := found[base]; !before {
				found[base] = f
			}
		}
	}
	for _, base := range slices.Sorted(maps.Keys(found)) {
		paths, files = append(paths, found[base].path), append(files, unit.Parse(found[base].data))
	}
	return paths, files
}

// familyOf lists the names by which drop-ins of the unit are found, from its own on: of
// srv-a.mount also those of srv-.mount and of mount, of x@y.service those of x@.service.
func familyOf(name string) []string {
	suffix := unit.Suffix(name)
	stem := strings.TrimSuffix(name, suffix)
	out := []string{name}
	if at := strings.IndexByte(stem, '@'); at >= 0 && at < len(stem)-1 {
		out = append(out, stem[:at+1]+suffix)
	}
	for at := strings.LastIndexByte(strings.TrimRight(stem, "-"), '-'); at > 0; at = strings.LastIndexByte(strings.TrimRight(stem[:at], "-"), '-') {
		out = append(out, stem[:at+1]+suffix)
	}
	return append(out, strings.TrimPrefix(suffix, "."))
}

// Before is the automount that stands before a mount, if one does that is not masked.
func Before(all []Loaded, mount string) (automount *Loaded) {
	base, is := strings.CutSuffix(mount, ".mount")
	i, there := slices.BinarySearchFunc(all, base+".automount", func(l Loaded, name string) int { return cmp.Compare(l.Name, name) })
	if !is || !there || all[i].Masked {
		return nil
	}
	return &all[i]
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
func (l Loaded) Kept() bool { return Kept(l.Path) }

// Kept reports whether people keep what lies at the path, or in that directory.
func Kept(path string) bool {
	return strings.HasPrefix(path, "/etc/") || strings.HasPrefix(path, "/run/")
}

// Alone reports whether it has none of the dependencies that units have by themselves.
func (l Loaded) Alone() bool {
	on, said := yes(l.Get("Unit", "DefaultDependencies"))
	return said && !on
}

// Condition is the first condition on which it is started, as it is written; "" without one.
func (l Loaded) Condition() string {
	for _, f := range append([]*unit.File{l.Own}, l.dropped...) {
		for _, s := range f.Settings {
			if s.Section == "Unit" && s.Value != "" && (strings.HasPrefix(s.Key, "Condition") || strings.HasPrefix(s.Key, "Assert")) {
				return s.Key + "=" + s.Value
			}
		}
	}
	return ""
}

// yes reads a word that is a yes or a no.
func yes(word string) (on, said bool) {
	switch strings.ToLower(word) {
	case "1", "yes", "y", "true", "t", "on":
		return true, true
	case "0", "no", "n", "false", "f", "off":
		return false, true
	}
	return false, false
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
