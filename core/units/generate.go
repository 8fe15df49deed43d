package units

import (
	"fmt"
	"slices"
	"strings"

	"fundus/core/text/fstab"
	"fundus/core/text/unit"
)

// Facts are what the generator goes by besides the table.
type Facts struct {
	Words Line // of the kernel's command line
	// Checks reports whether there is a program that checks the kind; nil: there always is.
	Checks func(kind string) bool
}

// Generated is what the generator writes: into the directory that stands before what comes with
// packages, and into the one behind all others.
type Generated struct {
	Normal, Late Tree
	Lines        map[string]int // of fstab, by the name of the unit
}

// SwapService is the service that makes an area of swap where there is none, without the device.
const SwapService = "systemd-mk" + "swap@"

// Names of systemd's own units: of the target that is reached when a device can be used, and of the
// service that gives partitions their sizes.
const (
	readyTarget  = "block" + "dev@"
	partsService = "systemd-re" + "part.service"
)

// source says of what a unit was made.
const source = fstab.Path

// Generate gives the units that systemd's generator makes of the lines, as it runs on the
// system itself and not in the initial file system.
func Generate(lines []fstab.Unit, f Facts) Generated {
	g := &generator{Generated{Tree{}, Tree{}, map[string]int{}}, f}
	words := f.Words
	if words.On("fstab", true) {
		swap := words.On("systemd.swap", true)
		for _, u := range lines {
			switch {
			case u.None == fstab.Dies:
				return g.Generated // and with it whatever else it does
			case u.None != "" || u.Entry.IsSwap() && !swap:
			case u.Entry.IsSwap():
				g.swap(u)
			default:
				g.mount(u)
			}
		}
		g.remounted() // also where the table has no line
	}
	if words.Last("systemd.volatile") == "state" {
		g.volatile()
	}
	return g.Generated
}

type generator struct {
	Generated
	facts Facts
}

// begin is the head that mounts, automounts and swap have in common.
func begin() *builder {
	b := &builder{}
	b.section("Unit")
	b.set("SourcePath", source)
	return b
}

// mount makes the unit of a mount, and what goes with it.
func (g *generator) mount(u fstab.Unit) {
	e, name := u.Entry, unit.Name(u.Where, "mount")
	g.Lines[name] = u.Line
	target := "local-fs.target"
	if e.Network() {
		target = "remote-fs.target"
	}
	b := begin()
	needs(b, e)
	if !u.Late {
		b.set("Before", target)
	}
	if u.Check && (g.facts.Checks == nil || g.facts.Checks(e.Type)) {
		g.checked(b, u)
	}
	device := fstab.IsNode(u.What)
	if device {
		b.set("After", readyTarget+unit.Name(u.What, "target"))
	}
	b.section("Mount")
	b.set("What", plain(u.What))
	b.set("Where", plain(u.Where))
	if e.Type != "auto" {
		b.set("Type", plain(e.Type))
	}
	b.set("TimeoutSec", time(u.Mount))
	if options := strings.Join(u.Options, ","); options != "defaults" {
		b.set("Options", plain(options))
	}
	if e.Has("x-systemd.rw-only") {
		b.set("ReadWriteOnly", "yes")
	}
	g.Normal[name] = b.entry()
	g.device(u)
	if made := g.helpers(u, name, target); !made {
		return
	}
	pulled := name
	if u.Automount {
		pulled = unit.Name(u.Where, "automount")
		g.Lines[pulled] = u.Line
		b := begin()
		b.section("Automount")
		b.set("Where", plain(u.Where))
		b.set("TimeoutIdleSec", time(u.Idle))
		g.Normal[pulled] = b.entry()
	}
	g.pull(u, pulled)
}

// swap makes the unit of an area of swap.
func (g *generator) swap(u fstab.Unit) {
	name := unit.Name(u.What, "swap")
	g.Lines[name] = u.Line
	b := begin()
	if fstab.IsNode(u.What) {
		b.set("After", readyTarget+unit.Name(u.What, "target"))
	}
	b.section("Swap")
	b.set("What", plain(u.What))
	if options := strings.Join(u.Options, ","); options != "defaults" {
		b.set("Options", plain(options))
	}
	g.Normal[name] = b.entry()
	g.device(u)
	if u.Entry.Has("x-systemd.makefs") {
		if !fstab.IsNode(u.What) {
			return // it is given up, and nothing pulls it in
		}
		g.made(u, SwapService, "Make Swap on %f", name, "swap")
	}
	g.pull(u, name)
}

// pull links the unit into what pulls it in.
func (g *generator) pull(u fstab.Unit, name string) {
	for _, by := range u.By {
		dir := by.Target + ".wants"
		if by.Tie == fstab.Required {
			dir = by.Target + ".requires"
		}
		g.Normal.link(dir, name)
	}
}

// checked has the file system looked at before it is mounted. The root's own is a service of
// its own, and /usr is mounted whatever the check says.
func (g *generator) checked(b *builder, u fstab.Unit) {
	if u.Where == "/" {
		g.Normal["local-fs.target.wants/systemd-fsck-root.service"] = Entry{To: "/lib/systemd/system/systemd-fsck-root.service"}
		return
	}
	check := "systemd-fsck@" + unit.Name(u.What, "service")
	tie := "Requires"
	if u.Where == "/usr" {
		tie = "Wants"
	}
	b.set(tie, check)
	b.set("After", check)
}

// remounted has the options of the table given to what is mounted already.
func (g *generator) remounted() {
	g.Normal["local-fs.target.wants/systemd-remount-fs.service"] = Entry{To: "/lib/systemd/system/systemd-remount-fs.service"}
}

// device writes the drop-ins of the device: how long it is waited for, and that the network
// comes first.
func (g *generator) device(u fstab.Unit) {
	if !fstab.IsNode(u.What) {
		return
	}
	dir := unit.Name(u.What, "device") + ".d/"
	if u.Device != "" {
		b := &builder{}
		b.section("Unit")
		b.set("JobRunningTimeoutSec", u.Device)
		g.Normal[dir+"50-device-timeout.conf"] = b.entry()
	}
	if u.Entry.Has("_netdev") && !u.Entry.IsSwap() && !extrinsic(u) {
		b := &builder{}
		b.section("Unit")
		b.set("After", "network-online.target network.target")
		b.set("Wants", "network-online.target")
		g.Normal[dir+"50-netdev-dependencies.conf"] = b.entry()
	}
}

// extrinsic reports whether the mount is made by what comes before the system itself.
func extrinsic(u fstab.Unit) bool {
	switch u.Where {
	case "/", "/usr", "/etc":
		return true
	}
	early := func(dir string) bool { return u.Where == dir || strings.HasPrefix(u.Where, dir+"/") }
	return u.Entry.Has("x-initrd.mount") || slices.ContainsFunc([]string{"/run/initramfs", "/run/nextroot", "/proc", "/sys", "/dev"}, early)
}

// helpers writes the services that make a file system where there is none, and that let it
// fill its device. It is false where the first cannot be: then nothing pulls the mount in.
func (g *generator) helpers(u fstab.Unit, name, target string) bool {
	e := u.Entry
	if e.Has("x-systemd.makefs") {
		if e.Type == "" || e.Type == "auto" || !fstab.IsNode(u.What) {
			return false
		}
		g.made(u, "systemd-makefs@", "Make File System on %f", name, e.Type)
	}
	if e.Has("x-systemd.growfs") {
		g.grown(u, name, target)
	}
	return true
}

// made is the service that makes what a device has to hold.
func (g *generator) made(u fstab.Unit, template, words, name, kind string) {
	service := template + unit.Name(u.What, "service")
	before := "systemd-fsck@%i.service "
	if u.Entry.IsSwap() {
		before = ""
	}
	b := &builder{}
	b.section("Unit")
	b.set("Description", words)
	b.set("DefaultDependencies", "no")
	b.set("BindsTo", "%i.device")
	b.set("Conflicts", "shutdown.target")
	b.set("After", "%i.device")
	b.set("Before", "shutdown.target "+before+name)
	oneshot(b, "/lib/systemd/systemd-makefs "+kind+" "+escaped(u.What))
	g.Normal[service] = b.entry()
	g.Normal.link(name+".requires", service)
}

// grown is the service that lets a file system fill its device.
func (g *generator) grown(u fstab.Unit, name, target string) {
	service := "systemd-growfs@" + unit.Name(u.Where, "service")
	b := &builder{}
	b.section("Unit")
	b.set("Description", "Grow File System on %f")
	b.set("DefaultDependencies", "no")
	b.set("BindsTo", "%i.mount")
	b.set("Conflicts", "shutdown.target")
	b.set("After", partsService+" %i.mount")
	b.set("Before", "shutdown.target "+target)
	if u.Where == "/" {
		b.set("After", "systemd-remount-fs.service")
	}
	oneshot(b, "/lib/systemd/systemd-growfs "+escaped(u.Where))
	g.Normal[service] = b.entry()
	g.Normal.link(name+".wants", service)
}

func oneshot(b *builder, command string) {
	b.section("Service")
	b.set("Type", "oneshot")
	b.set("RemainAfterExit", "yes")
	b.set("ExecStart", command)
	b.set("TimeoutSec", "0")
}

// escaped is a word of a command as systemd's reader takes it apart again.
func escaped(word string) string {
	var b strings.Builder
	for i := range len(word) {
		switch c := word[i]; {
		case strings.IndexByte(`\"'`, c) >= 0:
			b.WriteByte('\\')
			b.WriteByte(c)
		case c < ' ' || c >= 127:
			fmt.Fprintf(&b, `\%03o`, c)
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}

// volatile puts /var into memory for this boot.
func (g *generator) volatile() {
	b := &builder{}
	b.section("Unit")
	b.set("SourcePath", "/proc/cmdline")
	b.set("Before", "local-fs.target")
	b.section("Mount")
	b.set("What", "tmpfs")
	b.set("Where", "/var")
	b.set("Type", "tmpfs")
	b.set("Options", "mode=0755,size=25%%,nr_inodes=1m")
	g.Late["var.mount"] = b.entry()
	g.Late.link("local-fs.target.requires", "var.mount")
}

// needs writes what the line says of other units.
func needs(b *builder, e fstab.Entry) {
	for _, need := range []struct{ option, key string }{
		{"x-systemd.after", "After"},
		{"x-systemd.requires", "Requires"},
		{"x-systemd.before", "Before"},
	} {
		for _, word := range e.Values(need.option) {
			name, _ := unit.Meant(word)
			if need.key == "Requires" {
				b.set("After", name)
			}
			b.set(need.key, name)
		}
	}
	for _, path := range e.Values("x-systemd.requires-mounts-for") {
		b.set("RequiresMountsFor", plain(path))
	}
}

// time is a span as a unit says it; "" for none.
func time(words string) string {
	switch d, ok := fstab.Span(words); {
	case !ok || words == "":
		return ""
	case d == 0 || d == fstab.Forever:
		return "infinity"
	}
	return words
}
