package propose

import (
	"maps"
	"slices"
	"strings"

	"fundus/core/inventory"
	"fundus/core/text/fstab"
	"fundus/core/text/unit"
)

// Rebuild proposes the lines of a table that is lost: from the units that systemd made of it
// when it last read it, and, for what those do not have, from what is mounted now. The units
// are by their file names.
func Rebuild(v *inventory.Inventory, units map[string][]byte) (out []fstab.Entry) {
	for _, name := range slices.Sorted(maps.Keys(units)) {
		if e, ok := fromUnit(name, units[name]); ok {
			out = append(out, e)
		}
	}
	for _, u := range v.Uses {
		n, ok := v.Node(u.Node)
		have := slices.ContainsFunc(out, func(e fstab.Entry) bool {
			return e.Dir == u.Where && u.How == inventory.Mounted ||
				u.How == inventory.SwapOn && slices.ContainsFunc(v.Resolve(e.Spec), func(o inventory.Node) bool { return o.Name == u.Node })
		})
		if !ok || have || u.Elsewhere != "" || v.Imaged(n) || u.How == inventory.Held {
			continue
		}
		if e, ok := fromUse(v, n, u); ok {
			out = append(out, e)
		}
	}
	slices.SortStableFunc(out, func(a, b fstab.Entry) int { return order(a) - order(b) })
	return out
}

// order puts swap last.
func order(e fstab.Entry) int {
	if e.IsSwap() {
		return 1
	}
	return 0
}

// fromUnit reads a line back from a unit that systemd's generator made of it.
func fromUnit(name string, data []byte) (fstab.Entry, bool) {
	f := unit.Parse(data)
	get := func(section, key string) string {
		s, _ := f.Get(section, key)
		return strings.ReplaceAll(s.Value, "%%", "%")
	}
	if get("Unit", "SourcePath") != fstab.Path {
		return fstab.Entry{}, false
	}
	switch {
	case strings.HasSuffix(name, ".mount"):
		e := fstab.Entry{
			Spec:    fstab.Spec(get("Mount", "What")),
			Dir:     get("Mount", "Where"),
			Type:    get("Mount", "Type"),
			Options: fstab.Split(get("Mount", "Options")),
		}
		if e.Type == "" {
			e.Type = "auto"
		}
		if strings.Contains(string(data), "=systemd-fsck") {
			if e.Pass = 2; e.Dir == "/" {
				e.Pass = 1
			}
		}
		return e, e.Spec != "" && e.Dir != ""
	case strings.HasSuffix(name, ".swap"):
		e := fstab.Entry{Spec: fstab.Spec(get("Swap", "What")), Dir: "none", Type: fstab.Swap, Options: fstab.Split(get("Swap", "Options"))}
		return e, e.Spec != ""
	}
	return fstab.Entry{}, false
}

// fromUse proposes a line for what is mounted or swapped on without one.
func fromUse(v *inventory.Inventory, n inventory.Node, u inventory.Use) (fstab.Entry, bool) {
	name, err := Name(v, n, "", "")
	if err != nil {
		return fstab.Entry{}, false
	}
	ask := Ask{Dir: u.Where}
	if u.How == inventory.SwapOn {
		ask.Dir, ask.Fixed = "", true
	}
	l, err := For(v, n, ask)
	l.Entry.Spec = name.Spec
	return l.Entry, err == nil
}
