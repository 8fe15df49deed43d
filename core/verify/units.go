package verify

import (
	"strings"

	"fundus/core/finding"
	"fundus/core/inventory"
	"fundus/core/text/unit"
	"fundus/core/units"
	"fundus/core/way"
)

// Units goes through the units that people keep for mounts, automounts and swap: those of
// systemd itself and of packages are theirs.
func Units(v *inventory.Inventory) []finding.Finding { return newLook(v).unitFiles() }

func (k *look) unitFiles() (out []finding.Finding) {
	for _, l := range k.v.Loaded() {
		if !l.Kept() {
			continue
		}
		line := k.lineOf(l)
		switch {
		case l.Masked && line > 0:
			out = append(out, UnitMasked.New(l.Path,
				"%s is masked, and line %d of fstab asks for it: it is never mounted", l.Name,
				line).WithRemedy("take the mask away, or the line"))
		case l.Masked:
			f := UnitMasked.New(l.Path, "%s is masked", l.Name)
			f.Severity = finding.Note
			out = append(out, f.WithRemedy("nothing needs to be done where that is meant"))
		default:
			out = append(out, k.unitFile(l, line)...)
		}
	}
	return out
}

// unitFile is about one that counts.
func (k *look) unitFile(l units.Loaded, line int) (out []finding.Finding) {
	what, where := l.What(), l.Where()
	suffix := strings.TrimPrefix(unit.Suffix(l.Name), ".")
	named := where
	if l.IsSwap() {
		named = what
	}
	if name := unit.Name(named, suffix); named != "" && strings.HasPrefix(named, "/") && name != l.Name {
		out = append(out, UnitName.New(l.Path, "it is about %s, and would have to be called %s", named, name).WithRemedy("give it that name: systemd refuses it so"))
	}
	if tag, _, is := strings.Cut(what, "="); is && suffix != "automount" && !strings.HasPrefix(what, "/") &&
		!strings.ContainsAny(tag, "/:") {
		why := "it is mounted without waiting for the device, which may not be there yet"
		if l.IsSwap() {
			why = "systemd takes no path of it, and ignores it"
		}
		f := UnitNoDevice.New(l.Path, "What=%s is no path: %s", what, why)
		out = append(out, f.WithRemedy("write the link of udev's: What=%s", linkOf(what)))
	}
	if line > 0 && suffix != "automount" {
		f := UnitBeside.New(l.Path,
			"line %d of fstab is for %s too: the unit counts, and the boot depends on it as the line says", line, named)
		out = append(out, f.WithMend(way.FstabDisable(way.N(line))))
	}
	return out
}

// lineOf is the line of fstab from which the generator would make a unit of the same name.
func (k *look) lineOf(l units.Loaded) int {
	for _, u := range k.units {
		name := unit.Name(u.Where, "mount")
		if u.Entry.IsSwap() {
			name = unit.Name(u.What, "swap")
		}
		if u.None == "" && (name == l.Name || u.Automount && unit.Name(u.Where, "automount") == l.Name) {
			return u.Line
		}
	}
	return 0
}

func linkOf(spec string) string {
	tag, value, _ := strings.Cut(spec, "=")
	return "/dev/disk/by-" + strings.ToLower(tag) + "/" + value
}
