package machine

import (
	"path"
	"slices"
	"strings"

	"fundus/core/inventory"
	"fundus/core/text/fstab"
	"fundus/core/text/unit"
	"fundus/core/units"
)

// readUnits reads what lies in the directories of units about mounts, automounts, swap and
// devices. What cannot be read is left out.
func readUnits(v *inventory.Inventory, r Reader) {
	for _, dir := range units.Dirs() {
		p := units.Place{Dir: dir, Tree: units.Tree{}}
		names, err := r.List(dir)
		if err != nil {
			names = nil
		}
		for _, name := range names {
			if !units.Relevant(name) {
				continue
			}
			inner := []string{""}
			if strings.HasSuffix(name, "/") {
				inner, _ = r.List(path.Join(dir, name))
			}
			for _, base := range inner {
				rel := path.Join(name, base)
				if e, ok := unitAt(r, path.Join(dir, rel)); ok && counts(rel) {
					p.Tree[rel] = e
				}
			}
		}
		v.UnitFiles = append(v.UnitFiles, p)
	}
}

// counts reports whether a path in a directory of units is a unit of these kinds, a link to one,
// or a drop-in.
func counts(rel string) bool {
	dir, base := path.Split(rel)
	if strings.HasSuffix(dir, ".d/") {
		return strings.HasSuffix(base, ".conf")
	}
	return units.Relevant(base)
}

// unitAt is the file or the link at a path.
func unitAt(r Reader, at string) (e units.Entry, ok bool) {
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

// checkNamed refuses to start or stop a unit where no systemd runs.
func checkNamed(v *inventory.Inventory, a Action) *Refusal {
	if !v.Machine.Systemd {
		return refuse(RuleNoSystemd, a.Unit, "", "no systemd runs here that could do it")
	}
	return nil
}

// runs reports whether what the unit brings about is there.
func runs(v *inventory.Inventory, a Action) bool {
	switch unit.Suffix(a.Unit) {
	case ".automount":
		return slices.ContainsFunc(v.Others, func(u inventory.Use) bool { return u.Kind == inventory.Automount && u.Where == a.Where })
	case ".swap":
		return slices.ContainsFunc(v.Areas, func(o inventory.Area) bool { return o.Node == a.Node && a.Node != "" || o.Path == a.From })
	}
	_, device := v.MountedAt(a.Where)
	_, other := v.OtherAt(a.Where)
	return device || other
}

func started(v *inventory.Inventory, a Action) {
	switch unit.Suffix(a.Unit) {
	case ".automount":
		v.Others = append(slices.Clone(v.Others), inventory.Use{How: inventory.Mounted, Where: a.Where, Kind: inventory.Automount, Source: "systemd-1"})
	case ".swap":
		if a.Node != "" {
			v.Uses = append(slices.Clone(v.Uses), SwappedOn(a))
		}
		v.Areas = append(slices.Clone(v.Areas), inventory.Area{Path: a.From, Node: a.Node, File: a.Node == "", Priority: SwappedOn(a).Priority})
	default:
		if a.Node != "" {
			mounted(v, a)
			return
		}
		v.Others = append(slices.Clone(v.Others), inventory.Use{How: inventory.Mounted, Where: a.Where, Kind: a.Kind, Source: a.From, Options: a.Options})
	}
}

func stopped(v *inventory.Inventory, a Action) {
	at := func(u inventory.Use) bool { return u.Where == a.Where && u.How == inventory.Mounted }
	if unit.Suffix(a.Unit) == ".swap" {
		drop(v, func(u inventory.Use) bool { return u.How == inventory.SwapOn && u.Node == a.Node })
		v.Areas = slices.DeleteFunc(slices.Clone(v.Areas), func(o inventory.Area) bool { return o.Path == a.From || a.Node != "" && o.Node == a.Node })
		return
	}
	v.Others = slices.DeleteFunc(slices.Clone(v.Others), at)
	drop(v, at)
}

// Named is the action that has systemd start the unit of a place: of a mount point, or of swap.
func Named(name string, n inventory.Node, u fstab.Unit) Action {
	return Action{Verb: Start, Unit: name, Node: n.Name, Where: u.Where, From: u.What, Kind: u.Entry.Type, Options: strings.Join(u.Options, ",")}
}
