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

	"fundus/core/inventory"
	"fundus/core/text"
	"fundus/core/text/bootcfg"
	"fundus/core/text/crypttab"
	"fundus/core/text/fstab"
	"fundus/core/text/unit"
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
	Menu   bool // it says what can be started
	Syntax text.Syntax
}

// Places lists where devices are named, in the order in which a boot reads them.
func Places() []Place {
	const generator = "the boot loader's own generator of menus"
	words := bootcfg.Syntax{}
	return []Place{
		{Path: "/proc/cmdline", What: "command line of this boot", Syntax: words, Fixed: true},
		{Path: "/boot/grub/grub.cfg", What: "boot menu", Menu: true, Syntax: words, Writer: generator},
		{Path: "/boot/grub2/grub.cfg", What: "boot menu", Menu: true, Syntax: words, Writer: generator},
		{Path: "/etc/default/grub", What: "defaults of the boot menu", Syntax: words},
		{Path: "/boot/loader/entries", Suffix: ".conf", What: "boot entry", Menu: true, Syntax: words},
		{Path: "/efi/loader/entries", Suffix: ".conf", What: "boot entry", Menu: true, Syntax: words},
		{Path: "/boot/efi/loader/entries", Suffix: ".conf", What: "boot entry", Menu: true, Syntax: words},
		{Path: "/boot/extlinux/extlinux.conf", What: "boot menu", Menu: true, Syntax: words},
		{Path: "/boot/syslinux/syslinux.cfg", What: "boot menu", Menu: true, Syntax: words},
		{Path: "/etc/kernel/cmdline", What: "command line of new kernels", Syntax: words},
		{Path: "/etc/initramfs-tools/conf.d", What: "initramfs settings", Syntax: words},
		{Path: "/etc/dracut.conf.d", Suffix: ".conf", What: "initramfs settings", Syntax: words},
		{Path: crypttab.Path, What: "encrypted devices", Syntax: crypttab.Syntax{}},
		{Path: fstab.Path, What: "fstab", Syntax: fstab.Syntax{}},
		{Path: "/etc/systemd/system", Suffix: ".mount", What: "mount unit", Syntax: unit.Syntax{}},
		{Path: "/etc/systemd/system", Suffix: ".swap", What: "swap unit", Syntax: unit.Syntax{}},
	}
}

// Dir reports whether the place is a directory.
func (p Place) Dir() bool { return p.Suffix != "" || strings.HasSuffix(p.Path, ".d") }

// placeOf finds the place of a file.
//
// A directory of snippets is read with its files only, as the programs that read it do:
// what has another suffix or lies deeper is not read by them either.
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
	text.Mention
	Place
}

// All lists every reference, file by file.
func All(v *inventory.Inventory) (out []Reference) {
	for _, path := range slices.Sorted(maps.Keys(v.Files)) {
		p, ok := placeOf(path)
		if !ok || v.Files[path].Missing {
			continue
		}
		var mentions []text.Mention
		if path == fstab.Path { // which is read already
			mentions = v.Fstab().Mentions()
		} else {
			mentions = p.Syntax.Mentions(v.Files[path].Data)
		}
		for _, m := range mentions {
			out = append(out, Reference{path, m, p})
		}
	}
	order := Places()
	slices.SortStableFunc(out, func(a, b Reference) int {
		at := func(r Reference) int { return slices.Index(order, r.Place) }
		return cmp.Compare(at(a), at(b))
	})
	return out
}

// Offset is where a file says that the file to swap on begins from which the kernel resumes.
type Offset struct {
	Path string
	bootcfg.Offset
	Place
}

// Offsets lists them, file by file.
func Offsets(v *inventory.Inventory) (out []Offset) {
	for _, path := range slices.Sorted(maps.Keys(v.Files)) {
		p, ok := placeOf(path)
		if _, words := p.Syntax.(bootcfg.Syntax); !ok || !words || v.Files[path].Missing {
			continue
		}
		for _, o := range bootcfg.Offsets(v.Files[path].Data) {
			out = append(out, Offset{path, o, p})
		}
	}
	return out
}

// Normal gives the identifier that a link of udev's names, in place of its path.
//
// udev makes links for each identifier, and people write the link for the identifier: both
// mean the same, and are compared as one.
func Normal(spec string) string {
	for _, tag := range text.Tags() {
		if value, ok := strings.CutPrefix(spec, "/dev/disk/by-"+strings.ToLower(tag)+"/"); ok {
			return tag + "=" + value
		}
	}
	tag, value, is := strings.Cut(spec, "=")
	if is && !strings.HasPrefix(spec, "/") {
		return strings.ToUpper(tag) + "=" + fstab.Unquote(value)
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
