package boot

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"fundus/core/inventory"
	"fundus/core/refs"
	"fundus/core/text/bootcfg"
	"fundus/core/text/fstab"
	"fundus/core/text/unit"
	"fundus/core/units"
)

// Start is what a boot loader hands over to the kernel.
type Start struct {
	Words  units.Line // the command line
	From   string     // where it stands, in words; "" where nothing says it
	Initrd Answer     // is an initial file system loaded with the kernel?
}

// Answer is a yes, a no, or nothing.
type Answer int

// The answers.
const (
	Nothing Answer = iota
	Yes
	No
)

// DefaultTimeout is how long systemd waits for a device unless it is told otherwise.
const DefaultTimeout = 90 * time.Second

// facts are what is known of the boot beside what is on the disks.
type facts struct {
	Start
	wait time.Duration // for a device
}

// Next is how the next boot starts as far as can be told: by the entry of a boot menu that says
// the words of this boot, else by the first one, else by the words of this boot.
func Next(v *inventory.Inventory) Start {
	const this = "/proc/cmdline"
	now := units.Words(string(v.Files[this].Data))
	list := Entries(v)
	at := slices.IndexFunc(list, func(e bootcfg.Entry) bool { return same(units.Words(e.Words), now) })
	switch {
	case at >= 0:
		return ByEntry(list[at])
	case len(now) > 0:
		s := Start{Words: now, From: "this boot's command line"}
		if len(list) > 0 || now.Has("initrd") || onlyInitrd(now.Last("root")) {
			s.Initrd = Yes // the kernel that runs has found its root by it
		}
		return s
	case len(list) > 0:
		return ByEntry(list[0])
	}
	return Start{}
}

// ByEntry is the start that an entry of a menu makes.
func ByEntry(e bootcfg.Entry) Start {
	s := Start{Words: units.Words(e.Words), From: "boot entry " + e.Title, Initrd: No}
	if e.Initrd {
		s.Initrd = Yes
	}
	return s
}

// same reports whether two command lines say the same, beside what the boot loader adds.
func same(a, b units.Line) bool {
	own := func(w units.Word) bool { return w.Name == "BOOT_IMAGE" || w.Name == "initrd" }
	a, b = slices.DeleteFunc(slices.Clone(a), own), slices.DeleteFunc(slices.Clone(b), own)
	return len(a) > 0 && slices.Equal(a, b)
}

// Entries are those of every boot menu, in the order in which menus are looked for.
func Entries(v *inventory.Inventory) (out []bootcfg.Entry) {
	for _, place := range refs.Places() {
		if !place.Menu {
			continue
		}
		var paths []string
		for p := range v.Files {
			if p == place.Path || place.Dir() && strings.HasPrefix(p, place.Path+"/") {
				paths = append(paths, p)
			}
		}
		var here []bootcfg.Entry
		for _, p := range slices.Sorted(slices.Values(paths)) {
			here = append(here, bootcfg.Entries(p, v.Files[p].Data)...)
		}
		if place.Dir() {
			slices.SortStableFunc(here, newestFirst)
		}
		out = append(out, here...)
	}
	return out
}

// newestFirst orders entries of a directory: those with a sort key first, by it; of one key the
// newest version first; else by the name of the file, in which versions count as numbers.
//
// Source: the UAPI group's Boot Loader Specification, "Sorting".
func newestFirst(a, b bootcfg.Entry) int {
	if (a.SortKey == "") != (b.SortKey == "") {
		return cmp.Compare(b.SortKey, a.SortKey)
	}
	return cmp.Or(cmp.Compare(a.SortKey, b.SortKey), versions(b.Version, a.Version), versions(b.ID(), a.ID()))
}

// ownTime is the version of systemd since which devices have a time of their own. Before that
// they have the one of all units.
const ownTime = 252

// factsOf reads how long systemd waits for devices.
func factsOf(v *inventory.Inventory, s Start) facts {
	f := facts{s, DefaultTimeout}
	key, word := "DefaultDeviceTimeoutSec", ""
	if v.System.Version > 0 && v.System.Version < ownTime {
		key, word = "DefaultTimeoutStartSec", s.Words.Last("systemd.default_timeout_start_sec")
	}
	for _, data := range v.System.Conf {
		if set, ok := unit.Parse(data).Get("Manager", key); ok {
			if d, ok := fstab.Span(set.Value); ok {
				f.wait = forever(d)
			}
		}
	}
	if d, ok := fstab.Span(word); ok {
		f.wait = forever(d)
	}
	return f
}

// has reports whether the machine has a generator of units. Where none of systemd's could be
// listed, it has them all.
func (m *machine) has(generator string) bool {
	listed := slices.ContainsFunc(m.v.System.Generators, func(g string) bool { return strings.HasPrefix(g, "systemd-") })
	return !listed || slices.Contains(m.v.System.Generators, generator)
}

// unforeseen are generators of others.
func (m *machine) unforeseen() (out []string) {
	for _, g := range m.v.System.Generators {
		if !strings.HasPrefix(g, "systemd-") {
			out = append(out, g)
		}
	}
	return out
}
