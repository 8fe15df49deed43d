package boot

import (
	"slices"
	"strings"

	"fundus/core/text/fstab"
	"fundus/core/text/unit"
	"fundus/core/units"
)

// own are the units that people keep, by their names: those of systemd itself and of packages
// come up with it.
func (m *machine) own() map[string]units.Loaded {
	out := map[string]units.Loaded{}
	for _, l := range units.Load(m.v.UnitFiles) {
		if l.Kept() {
			out[l.Name] = l
		}
	}
	return out
}

// nameOf is the unit of a line.
func nameOf(u fstab.Unit) string {
	if u.Entry.IsSwap() {
		return unit.Name(u.What, "swap")
	}
	return unit.Name(u.Where, "mount")
}

// instead says what becomes of a line beside which there is a unit for the same place: the unit
// counts, and the boot depends on it as the line says too.
func (m *machine) instead(l *Line, own map[string]units.Loaded) bool {
	if l.Unit.None != "" {
		return false
	}
	o, there := own[nameOf(l.Unit)]
	switch {
	case !there:
		return false
	case !o.Masked:
		l.is(Passed, "%s counts in its place", o.Path)
	default:
		l.Masked = true
		l.is(Unread, "%s is a mask: nothing starts it", o.Path)
	}
	return true
}

// masked lets everything fall away that a target would pull in which is not started: systemd does
// not start one that requires what is masked. The boot goes on without that, and without the
// emergency shell, as was seen.
func masked(lines []Line) {
	for _, m := range lines {
		if !m.Masked || m.Unit.Tie != fstab.Required || m.Unit.Automount {
			continue
		}
		for i := range lines {
			l := &lines[i]
			by := slices.ContainsFunc(l.Unit.By, func(p fstab.Pull) bool {
				return slices.ContainsFunc(m.Unit.By, func(o fstab.Pull) bool { return o.Target == p.Target && o.Tie == fstab.Required })
			})
			if by && !l.Masked && l.Unit.Where != "/" && l.Outcome != Passed && l.Outcome != Unread {
				l.is(Unread, "%s is not started, which requires what is masked (%s)", m.Unit.By[0].Target, m.at())
			}
		}
	}
}

// fromUnits are the units that a boot pulls in, each as the line that would do the same.
func (m *machine) fromUnits(own map[string]units.Loaded, lines []Line) (out []Line) {
	for _, name := range sortedNames(own) {
		l := own[name]
		if unit.Suffix(name) == ".automount" || l.Masked {
			continue
		}
		var automount *units.Loaded
		if a, there := own[strings.TrimSuffix(name, ".mount")+".automount"]; there && !l.IsSwap() && !a.Masked {
			automount = &a
		}
		at := slices.IndexFunc(lines, func(o Line) bool { return o.Unit.None == "" && nameOf(o.Unit) == name })
		pulled := len(l.By) > 0 || automount != nil && len(automount.By) > 0
		if at < 0 && !pulled {
			continue // by hand alone
		}
		line := Line{File: l.Path, Spec: l.What(), Dir: l.Where(), Kind: l.Get("Mount", "Type")}
		e, err := units.ToLine(l, automount, m.v.UnitFiles)
		table := &fstab.File{}
		if err == nil {
			_, err = table.Add(e, 0)
		}
		if err != nil {
			line.is(Unknown, "what it does is not modelled: %v", err)
			out = append(out, line)
			continue
		}
		u := fstab.Read(table, m.v.Real)[0]
		if at >= 0 {
			u = tiedAs(u, lines[at].Unit)
		}
		line.Spec, line.Dir, line.Kind, line.NoFail, line.Options, line.Pass, line.Unit = e.Spec, u.Where, e.Type, u.Tie != fstab.Required, strings.Join(e.Options, ","), e.Pass, u
		if e.IsSwap() {
			line.Dir = e.Dir
		}
		m.rehearse(&line)
		out = append(out, line)
	}
	return out
}

// tiedAs adds how a line ties the unit to the boot.
func tiedAs(u, line fstab.Unit) fstab.Unit {
	u.By = append(slices.Clone(u.By), line.By...)
	if u.Tie == fstab.Untied || line.Tie == fstab.Required {
		u.Tie = line.Tie
	}
	return u
}

func sortedNames(own map[string]units.Loaded) (names []string) {
	for name := range own {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}
