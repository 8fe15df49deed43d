package units

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"fundus/core/text/fstab"
	"fundus/core/text/unit"
)

// ErrConvert is what one form says and the other cannot.
var ErrConvert = errors.New("cannot be said so")

func unsayable(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrConvert, fmt.Sprintf(format, args...))
}

// Made are the units that a line of fstab is as files of their own.
type Made struct {
	Tree Tree   // below a directory of units
	Unit string // the mount's, or the swap area's
	Main string // what the boot pulls in: the automount where there is one
}

// FromLine gives the units that do what the line does, for people to keep. Errors: ErrConvert
// where a unit has no word for it, or where systemd makes none of the line.
func FromLine(e fstab.Entry, real fstab.Real) (Made, error) {
	text, err := (&fstab.File{}).Add(e, 0)
	if err != nil {
		return Made{}, unsayable("%v", err)
	}
	u := fstab.Read(fstab.Parse([]byte(text.Raw)), real)[0]
	if u.None != "" {
		return Made{}, unsayable("%s", u.None)
	}
	if err := convertible(u); err != nil {
		return Made{}, err
	}
	m := Made{Tree: Tree{}, Unit: unit.Name(u.Where, "mount")}
	if e.IsSwap() {
		m.Unit = unit.Name(u.What, "swap")
	}
	if n := len("50-.conf") + len(m.Unit); n > mostName {
		return Made{}, unsayable("the name of its unit would have %d letters, and a file's has at most %d",
			len(m.Unit), mostName-len("50-.conf"))
	}
	m.Main = m.Unit
	if u.Automount {
		m.Main = unit.Name(u.Where, "automount")
	}
	m.write(u)
	for _, by := range u.By {
		dir := by.Target + map[fstab.Tie]string{fstab.Wanted: ".wants", fstab.Required: ".requires"}[by.Tie]
		m.Tree.link(dir, m.Main)
	}
	return m, nil
}

// mostName is how long the name of a file may be; a drop-in has a few letters more than the unit.
const mostName = 255

// convertible refuses what only a line can say.
func convertible(u fstab.Unit) error {
	e := u.Entry
	switch u.Where {
	case "/", "/usr":
		return unsayable("%s is mounted before systemd reads its units, by what its line says", u.Where)
	}
	for _, o := range []struct{ option, why string }{
		{"user", "only mount(8) and its like read it"}, {"users", "only mount(8) and its like read it"},
		{"owner", "only mount(8) and its like read it"}, {"group", "only mount(8) and its like read it"},
		{"x-systemd.makefs", "a service of the generator's does that"},
		{"x-systemd.growfs", "a service of the generator's does that"}, {"x-initrd.mount", "the initial file system reads fstab alone"},
	} {
		if e.Has(o.option) {
			return unsayable("the option %s has no word in a unit: %s", o.option, o.why)
		}
	}
	if e.IsSwap() && !strings.HasPrefix(u.What, "/") {
		return unsayable("%q is no path, and a unit of swap takes nothing else", u.What)
	}
	for _, path := range e.Values("x-systemd.requires-mounts-for") {
		if !strings.HasPrefix(path, "/") {
			return unsayable("x-systemd.requires-mounts-for=%s is no path from the root, and has no effect", path)
		}
	}
	if (e.Type == "nfs" || e.Type == "nfs4") && e.On("bg", "fg") {
		return unsayable("the option bg is what the generator makes more of")
	}
	if strings.HasSuffix(u.What, `\`) || strings.HasSuffix(u.Where, `\`) {
		return unsayable("a path with a backslash at its end, where a setting would go on")
	}
	return nil
}

// lineOnly reports whether an option says something to the reader of fstab alone.
func lineOnly(option string) bool {
	name, _, _ := strings.Cut(option, "=")
	switch name {
	case "defaults", "auto", "noauto", "fail", "sw":
		return true
	case "comment":
		return strings.HasPrefix(option, "comment=systemd.")
	}
	return strings.HasPrefix(name, "x-systemd.")
}

// optionsOf are those that a unit has a use for. Of nofail it takes the order alone: that nothing
// waits for it.
func optionsOf(u fstab.Unit) []string {
	out := slices.DeleteFunc(slices.Clone(u.Entry.Options), func(o string) bool {
		return lineOnly(o) || !u.Entry.IsSwap() && (o == "nofail" || strings.HasPrefix(o, "nofail="))
	})
	if u.Late {
		out = append(out, "nofail")
	}
	return out
}

// write writes the files.
func (m *Made) write(u fstab.Unit) {
	e := u.Entry
	b := &builder{}
	b.section("Unit")
	if !e.IsSwap() {
		needs(b, e)
	}
	if u.Check {
		check := "systemd-fsck@" + unit.Name(u.What, "service")
		b.set("Requires", check)
		b.set("After", check)
	}
	section := "Mount"
	if e.IsSwap() {
		section = "Swap"
	}
	b.section(section)
	b.set("What", plain(u.What))
	b.set("Where", plain(u.Where))
	if e.Type != "auto" && !e.IsSwap() {
		b.set("Type", plain(e.Type))
	}
	b.set("Options", plain(strings.Join(optionsOf(u), ",")))
	b.set("TimeoutSec", time(u.Mount))
	if e.Has("x-systemd.rw-only") && !e.IsSwap() {
		b.set("ReadWriteOnly", "yes")
	}
	if !u.Automount {
		install(b, u.By)
	}
	m.Tree[m.Unit] = b.entry()
	if u.Automount {
		b := &builder{}
		b.section("Automount")
		b.set("Where", plain(u.Where))
		b.set("TimeoutIdleSec", time(u.Idle))
		install(b, u.By)
		m.Tree[m.Main] = b.entry()
	}
	network := fstab.IsNode(u.What) && e.Has("_netdev") && !e.IsSwap() && !extrinsic(u)
	if u.Device != "" || network { // within the unit it would have no effect
		b := &builder{}
		b.section("Unit")
		b.set("JobRunningTimeoutSec", u.Device)
		if network {
			b.set("After", "network-online.target network.target")
			b.set("Wants", "network-online.target")
		}
		m.Tree[unit.Name(u.What, "device")+".d/"+dropIn(m.Unit)] = b.entry()
	}
}

// dropIn is the name of the file with the time for a device: one for each unit that says one.
func dropIn(name string) string { return "50-" + strings.ReplaceAll(name, ".", "-") + ".conf" }

// install says what the links say, for whoever enables the unit anew.
func install(b *builder, by []fstab.Pull) {
	if len(by) == 0 {
		return
	}
	b.section("Install")
	for _, p := range by {
		b.set(map[fstab.Tie]string{fstab.Wanted: "WantedBy", fstab.Required: "RequiredBy"}[p.Tie], p.Target)
	}
}

// known lists the settings that a line has a word for, by section.
func known() map[string][]string {
	return map[string][]string{
		"Unit":      {"Description", "Documentation", "Requires", "After", "Before", "RequiresMountsFor"},
		"Mount":     {"What", "Where", "Type", "Options", "TimeoutSec", "ReadWriteOnly"},
		"Swap":      {"What", "Options", "Priority"},
		"Automount": {"Where", "TimeoutIdleSec"},
		"Install":   {"WantedBy", "RequiredBy"},
	}
}

// ToLine gives the line of fstab that does what the units do: of the mount or the swap area, of
// the automount before it, and of the drop-ins of its device. Errors: ErrConvert, with what a
// line has no word for.
func ToLine(l Loaded, automount *Loaded, places []Place) (e fstab.Entry, err error) {
	for _, one := range []*Loaded{&l, automount} {
		if one == nil {
			continue
		}
		if one.Masked {
			return e, unsayable("%s is masked: nothing starts it", one.Name)
		}
		if len(one.DropIns) > 0 {
			return e, unsayable("%s changes it from outside", one.DropIns[0])
		}
		for _, s := range one.Own.Settings {
			if !slices.Contains(known()[s.Section], s.Key) {
				return e, unsayable("%s= in [%s], line %d of %s", s.Key, s.Section, s.Line, one.Path)
			}
		}
	}
	e = fstab.Entry{Spec: fstab.Spec(l.What()), Dir: l.Where(), Type: l.Get("Mount", "Type")}
	if e.Type == "" {
		e.Type = "auto"
	}
	if l.IsSwap() {
		e.Dir, e.Type = "none", fstab.Swap
	}
	e.Options = l.Options()
	if p := l.Get("Swap", "Priority"); p != "" {
		e.Options = append(e.Options, "pri="+p)
	}
	if l.Get("Mount", "ReadWriteOnly") == "yes" {
		e.Options = append(e.Options, "x-systemd.rw-only")
	}
	if t := l.Get("Mount", "TimeoutSec"); t != "" {
		e.Options = append(e.Options, "x-systemd.mount-timeout="+t)
	}
	if t := deviceTime(l, places); t != "" {
		e.Options = append(e.Options, "x-systemd.device-timeout="+t)
	}
	if err := neededBy(&e, l); err != nil {
		return e, err
	}
	main := l
	if automount != nil {
		e.Options = append(e.Options, "x-systemd.automount")
		if t := automount.Get("Automount", "TimeoutIdleSec"); t != "" {
			e.Options = append(e.Options, "x-systemd.idle-timeout="+t)
		}
		main = *automount
	}
	if err := tied(&e, main, automount != nil); err != nil {
		return e, err
	}
	if len(e.Options) == 0 {
		e.Options = []string{"defaults"}
	}
	return e, nil
}

// deviceTime is how long the device is waited for, by its drop-ins.
func deviceTime(l Loaded, places []Place) (t string) {
	dir := unit.Name(l.What(), "device") + ".d"
	for _, p := range slices.Backward(places) {
		for _, name := range p.Tree.Paths() {
			if path.Dir(name) == dir {
				if s, ok := unit.Parse(p.Tree[name].Data).Get("Unit", "JobRunningTimeoutSec"); ok {
					t = s.Value
				}
			}
		}
	}
	return t
}

// neededBy turns what stands in [Unit] into options, and the check of the device into the sixth
// field.
func neededBy(e *fstab.Entry, l Loaded) error {
	check := "systemd-fsck@" + unit.Name(l.What(), "service")
	requires, after := l.All("Unit", "Requires"), l.All("Unit", "After")
	if slices.Contains(requires, check) {
		e.Pass = 2
	}
	for _, name := range requires {
		if name != check {
			e.Options = append(e.Options, "x-systemd.requires="+name)
		}
	}
	for _, name := range after {
		if name != check && !slices.Contains(requires, name) {
			e.Options = append(e.Options, "x-systemd.after="+name)
		}
	}
	for _, name := range l.All("Unit", "Before") {
		e.Options = append(e.Options, "x-systemd.before="+name)
	}
	for _, path := range l.All("Unit", "RequiresMountsFor") {
		e.Options = append(e.Options, "x-systemd.requires-mounts-for="+path)
	}
	if len(e.Options) > 0 && l.IsSwap() {
		for _, o := range e.Options {
			if strings.HasPrefix(o, "x-systemd.") && !strings.HasPrefix(o, "x-systemd.device-timeout=") {
				return unsayable("a line of swap has no word for %s", o)
			}
		}
	}
	for _, name := range requires {
		if name != check && !slices.Contains(after, name) {
			return unsayable("Requires=%s without After=: a line always has both", name)
		}
	}
	return nil
}

// tied says what pulls the unit in.
func tied(e *fstab.Entry, main Loaded, automount bool) error {
	usual := "local-fs.target"
	switch {
	case main.IsSwap():
		usual = "swap.target"
	case e.Network():
		usual = "remote-fs.target"
	}
	nofail := e.NoFail()
	switch {
	case len(main.By) == 0:
		if automount {
			return unsayable("%s is pulled in by nothing, and the line of an automount always is", main.Name)
		}
		e.Options = append(e.Options, "noauto")
		return nil
	case len(main.By) == 1 && main.By[0].Target == usual:
		if wanted := main.By[0].Tie == fstab.Wanted; wanted && !nofail {
			e.Options = append(e.Options, "nofail")
		} else if !wanted && nofail {
			return unsayable("the option nofail, and %s requires it", usual)
		}
		return nil
	}
	if automount || main.IsSwap() {
		return unsayable("%s is pulled in by %s, and not by %s", main.Name, main.By[0].Target, usual)
	}
	for _, by := range main.By {
		e.Options = append(e.Options,
			map[fstab.Tie]string{fstab.Wanted: "x-systemd.wanted-by=", fstab.Required: "x-systemd.required-by="}[by.Tie]+by.Target)
	}
	return nil
}

// OwnDropIn lists the files that FromLine writes for the device of a unit, as far as they are
// there.
func OwnDropIn(l Loaded, places []Place) (paths []string) {
	rel := unit.Name(l.What(), "device") + ".d/" + dropIn(l.Name)
	for _, p := range places[:min(1, len(places))] {
		if _, there := p.Tree[rel]; there {
			paths = append(paths, path.Join(p.Dir, rel))
		}
	}
	return paths
}
