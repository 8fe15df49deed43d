// Package refs finds what in a machine's text files names a device: file, line,
// the words, and which device they mean. It computes on an inventory alone, so
// that it says the same of a machine, of a bench, and of what a draft would leave.
//
// Rewrite gives the files with another name in every place, for whoever changes
// an identifier.
package refs

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"fundus/core/bootcfg"
	"fundus/core/fstab"
	"fundus/core/inventory"
	"fundus/core/unit"
)

// Place is a file, or the files of a directory, that may name devices.
type Place struct {
	Path   string // of the file, or of the directory where there is a suffix
	Suffix string // of the files in it
	What   string // what such a file is
	// Writer is what writes the file anew, from other files; then a change here is
	// lost with the next one.
	Writer string
	Fixed  bool // nobody can change it
}

// Places lists where devices are named, in the order in which a boot reads them.
func Places() []Place {
	const generator = "the boot loader's generator (update-grub, or grub-mkconfig -o with this path)"
	return []Place{
		{Path: "/proc/cmdline", What: "command line of this boot", Fixed: true},
		{Path: "/boot/grub/grub.cfg", What: "boot menu", Writer: generator}, {Path: "/boot/grub2/grub.cfg", What: "boot menu", Writer: generator},
		{Path: "/etc/default/grub", What: "defaults of the boot menu"},
		{Path: "/boot/loader/entries", Suffix: ".conf", What: "boot entry"}, {Path: "/efi/loader/entries", Suffix: ".conf", What: "boot entry"}, {Path: "/boot/efi/loader/entries", Suffix: ".conf", What: "boot entry"},
		{Path: "/boot/extlinux/extlinux.conf", What: "boot menu"}, {Path: "/boot/syslinux/syslinux.cfg", What: "boot menu"},
		{Path: "/etc/kernel/cmdline", What: "command line of new kernels"},
		{Path: "/etc/initramfs-tools/conf.d", What: "initramfs settings"}, {Path: "/etc/dracut.conf.d", Suffix: ".conf", What: "initramfs settings"},
		{Path: "/etc/crypttab", What: "encrypted devices"},
		{Path: fstab.Path, What: "fstab"},
		{Path: "/etc/systemd/system", Suffix: ".mount", What: "mount unit"}, {Path: "/etc/systemd/system", Suffix: ".swap", What: "swap unit"},
	}
}

// Dir reports whether the place is a directory.
func (p Place) Dir() bool { return p.Suffix != "" || strings.HasSuffix(p.Path, ".d") }

// placeOf finds the place of a file.
func placeOf(path string) (Place, bool) {
	for _, p := range Places() {
		name, below := strings.CutPrefix(path, p.Path+"/")
		if p.Path == path || p.Dir() && below && !strings.Contains(name, "/") && strings.HasSuffix(name, p.Suffix) {
			return p, true
		}
	}
	return Place{}, false
}

// Reference is one name of a device in a file.
type Reference struct {
	Path string
	Line int    // from 1
	Text string // the line
	Spec string // "UUID=…", "/dev/sdb1"
	By   string // what names it: "root", "resume", "" for a field of its own
	Place
}

// All lists every reference, file by file.
func All(v *inventory.Inventory) (out []Reference) {
	for _, path := range slices.Sorted(maps.Keys(v.Files)) {
		if p, ok := placeOf(path); ok && !v.Files[path].Missing {
			out = append(out, in(path, p, v.Files[path].Data)...)
		}
	}
	order := Places()
	slices.SortStableFunc(out, func(a, b Reference) int {
		at := func(r Reference) int { return slices.Index(order, r.Place) }
		return cmp.Compare(at(a), at(b))
	})
	return out
}

func in(path string, p Place, data []byte) (out []Reference) {
	add := func(line int, text, spec, by string) {
		out = append(out, Reference{Path: path, Line: line, Text: strings.TrimSpace(text), Spec: spec, By: by, Place: p})
	}
	switch {
	case path == fstab.Path:
		for _, l := range fstab.Parse(data).Entries() {
			if isDevice(l.Entry.Spec) {
				add(l.Number, l.Raw, l.Entry.Spec, "")
			}
		}
	case isUnit(p):
		if s, ok := unit.Parse(data).What(); ok && isDevice(s.Value) {
			add(s.Line, s.Key+"="+s.Value, s.Value, s.Key)
		}
	default:
		for _, m := range bootcfg.Scan(data) {
			add(m.Line, m.Text, m.Spec, m.By)
		}
	}
	return out
}

func isUnit(p Place) bool { return p.Suffix == ".mount" || p.Suffix == ".swap" }

func isDevice(spec string) bool {
	return strings.HasPrefix(spec, "/dev/") || slices.ContainsFunc(tags(), func(tag string) bool { return strings.HasPrefix(spec, tag+"=") })
}

func tags() []string { return []string{"UUID", "LABEL", "PARTUUID", "PARTLABEL"} }

// Normal gives the identifier that a link of udev's names, in place of its path.
func Normal(spec string) string {
	for _, tag := range tags() {
		if value, ok := strings.CutPrefix(spec, "/dev/disk/by-"+strings.ToLower(tag)+"/"); ok {
			return tag + "=" + value
		}
	}
	tag, value, is := strings.Cut(spec, "=")
	if is && !strings.HasPrefix(spec, "/") {
		return strings.ToUpper(tag) + "=" + strings.Trim(value, `"`)
	}
	return spec
}

// Resolve gives the devices that the reference means: none, one, or several that
// carry the same identifier.
func (r Reference) Resolve(by *inventory.Resolver) []inventory.Node {
	return by.Resolve(Normal(r.Spec))
}

// Volatile reports whether the name is one that crypttab may say, because what is
// on the device is made anew at each boot.
func (r Reference) Volatile() bool { return strings.Contains(r.Text, "/dev/urandom") }

// Of lists the references that mean the node.
func Of(v *inventory.Inventory, name string) (out []Reference) {
	by := v.Resolver()
	for _, r := range All(v) {
		if slices.ContainsFunc(r.Resolve(by), func(n inventory.Node) bool { return n.Name == name }) {
			out = append(out, r)
		}
	}
	return out
}

// Named lists the references that say the identifier, whether a device has it or
// not.
func Named(v *inventory.Inventory, spec string) (out []Reference) {
	for _, r := range All(v) {
		if Normal(r.Spec) == Normal(spec) {
			out = append(out, r)
		}
	}
	return out
}
