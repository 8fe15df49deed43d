package files

import (
	"maps"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"fundus/core/inventory"
	"fundus/core/text/unit"
	"fundus/core/units"
	"fundus/internal/machine"
)

// readUnits reads what lies in the directories of units about mounts, automounts, swap and
// devices, and the other units that people keep or that a link pulls in. What cannot be read is
// left out.
func readUnits(v *inventory.Inventory, r machine.Reader) {
	pulled := map[string]bool{"default.target": true}
	names := map[string][]string{}
	for _, dir := range units.Dirs() {
		p := units.Place{Dir: dir, Tree: units.Tree{}}
		list, err := r.List(dir)
		if err != nil {
			list = nil
		}
		names[dir] = list
		for _, name := range list {
			inner := []string{""}
			switch {
			case !units.Relevant(name) && !(units.Kept(dir) && strings.HasSuffix(name, ".d/")):
				continue
			case strings.HasSuffix(name, "/"):
				inner, _ = r.List(path.Join(dir, name))
			}
			for _, base := range inner {
				rel := path.Join(name, base)
				if e, ok := unitAt(r, path.Join(dir, rel)); ok && counts(rel) {
					p.Tree[rel] = e
					pulled[path.Base(rel)] = true
				}
			}
		}
		v.UnitFiles = append(v.UnitFiles, p)
	}
	readPulled(v, r, names, pulled)
	readSystem(v, r)
}

// readPulled reads the units of other types: all that people keep, and those of packages that
// another one pulls in.
func readPulled(v *inventory.Inventory, r machine.Reader, names map[string][]string, pulled map[string]bool) {
	for more := true; more; {
		more = false
		for i, p := range v.UnitFiles {
			for _, name := range names[p.Dir] {
				if _, read := p.Tree[name]; read || unit.Suffix(name) == "" || !pulled[name] && !units.Kept(p.Dir) {
					continue
				}
				e, ok := unitAt(r, path.Join(p.Dir, name))
				if !ok {
					continue
				}
				v.UnitFiles[i].Tree[name] = e
				for _, s := range unit.Parse(e.Data).Settings {
					for _, other := range strings.Fields(s.Value) {
						if slices.Contains([]string{"Requires", "BindsTo", "Wants"}, s.Key) && !pulled[other] {
							pulled[other], more = true, true
						}
					}
				}
			}
		}
	}
}

// counts reports whether a path in a directory of units is a unit of these kinds, a link that
// pulls one in, or a drop-in.
func counts(rel string) bool {
	dir, base := path.Split(rel)
	switch {
	case strings.HasSuffix(dir, ".d/"):
		return strings.HasSuffix(base, ".conf")
	case dir != "":
		return unit.Suffix(base) != ""
	}
	return units.Relevant(base)
}

// readSystem reads how systemd is told to boot.
func readSystem(v *inventory.Inventory, r machine.Reader) {
	const conf = "systemd/system.conf"
	found := map[string]string{}
	for _, dir := range []string{"/etc/", "/run/", "/usr/local/lib/", "/usr/lib/"} {
		names, _ := r.List(dir + conf + ".d")
		for _, name := range names {
			if _, before := found[name]; !before && strings.HasSuffix(name, ".conf") {
				found[name] = path.Join(dir, conf+".d", name)
			}
		}
	}
	paths := []string{"/etc/" + conf}
	for _, name := range slices.Sorted(maps.Keys(found)) {
		paths = append(paths, found[name])
	}
	for _, p := range paths {
		if state, err := r.ReadFile(p); err == nil && len(state.Data) > 0 && len(state.Data) <= mostText {
			v.System.Conf = append(v.System.Conf, state.Data)
		}
	}
	v.System.Version = version(r)
	masked := map[string]bool{}
	for _, dir := range []string{
		"/etc/systemd/system-generators", "/run/systemd/system-generators", "/usr/local/lib/systemd/system-generators",
		"/usr/lib/systemd/system-generators",
	} {
		names, _ := r.List(dir)
		for _, name := range names {
			e, ok := generatorAt(r, path.Join(dir, name))
			masked[name] = masked[name] || e
			if ok && !masked[name] && !slices.Contains(v.System.Generators, name) {
				v.System.Generators = append(v.System.Generators, name)
			}
		}
	}
	v.System.Filled = map[string]bool{}
	for _, dir := range []string{"/home", "/srv", "/var", "/var/tmp", "/efi", "/boot"} {
		_, mounted := v.MountedAt(dir)
		if _, other := v.OtherAt(dir); mounted || other || v.Awaits(dir) {
			continue // what is mounted there says nothing of what it covers
		}
		names, err := r.List(dir)
		v.System.Filled[dir] = err == nil && len(names) > 0
		if state, err := r.ReadFile(dir); err == nil {
			v.Dirs[dir] = state.Dir
		}
	}
}

// shared is the library that systemd's programs have in common, with its version.
var shared = regexp.MustCompile(`^libsystemd-shared-([0-9]+)[-.0-9a-z~]*\.so$`)

// version is that of systemd by the name of its library, 0 where there is none.
func version(r machine.Reader) (n int) {
	for _, dir := range []string{
		"/usr/lib/systemd", "/usr/lib/x86_64-linux-gnu/systemd", "/usr/lib64/systemd",
		"/usr/lib/aarch64-linux-gnu/systemd",
	} {
		names, _ := r.List(dir)
		for _, name := range names {
			if m := shared.FindStringSubmatch(name); m != nil && n == 0 {
				n, _ = strconv.Atoi(m[1]) // digits alone
			}
		}
	}
	return n
}

// generatorAt reports whether a program is there, or a mask over one of its name.
func generatorAt(r machine.Reader, at string) (masked, ok bool) {
	place, err := r.Place(at)
	return err != nil || place.Path == "/dev/null", err == nil && place.There
}

// unitAt is the file or the link at a path.
func unitAt(r machine.Reader, at string) (e units.Entry, ok bool) {
	place, err := r.Place(at)
	if err != nil { // a link that leads nowhere pulls in what its name says
		return units.Entry{To: "nowhere"}, true
	}
	for _, l := range place.Links { // of the path itself, not of a directory on the way
		if path.Base(l.At) == path.Base(at) {
			e.To = l.To
			break
		}
	}
	if n := len(place.Links); n > 0 && (place.Path == "/dev/null" || place.Links[n-1].To == "/dev/null") {
		e.Masked = true
		return e, true
	}
	state, err := r.ReadFile(at)
	if err != nil || state.Dir || len(state.Data) > mostText {
		return e, err == nil && e.To != ""
	}
	e.Data = state.Data
	return e, !state.Missing || e.To != ""
}

// WithUnit gives the look another file or link in a directory of units, or takes it away where
// the entry is nil. Lists that others hold are not written to.
func WithUnit(v *inventory.Inventory, at string, e *units.Entry) {
	for i, p := range v.UnitFiles {
		rel, in := strings.CutPrefix(at, p.Dir+"/")
		if !in || !counts(rel) {
			continue
		}
		v.UnitFiles = slices.Clone(v.UnitFiles)
		tree := units.Tree{}
		for name, old := range p.Tree {
			tree[name] = old
		}
		if delete(tree, rel); e != nil {
			tree[rel] = *e
		}
		v.UnitFiles[i].Tree = tree
	}
}
