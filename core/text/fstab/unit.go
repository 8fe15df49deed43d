package fstab

import (
	"slices"
	"strings"

	"fundus/core/text/unit"
)

// Unit is what systemd makes of a line: a mount or a swap unit, and what pulls it in.
type Unit struct {
	Line  int
	Entry Entry
	None  Reason // why there is no unit; empty where there is one

	What  string // "/dev/disk/by-uuid/…", or the first field as it is
	Where string // the mount point, links followed; empty for swap
	Tie   Tie
	By    []Pull // what pulls it in
	Late  bool   // nothing waits for it
	Check bool   // a device, and the sixth field asks for a check
	// Options are those of the unit: without the time for the device, which is not its own.
	Options []string
	// Automount is a unit that mounts at the first access; it is pulled in instead.
	Automount bool
	Device    string // how long the device is waited for, as written; empty for the default
	Mount     string // how long the mount may take
	Idle      string // after what time without use an automount is unmounted
}

// Pull is what pulls a unit in.
type Pull struct {
	Target string
	Tie    Tie
}

// Tie is how the boot depends on a unit.
type Tie string

// The ties.
const (
	Untied   Tie = "not at boot" // only when asked for
	Wanted   Tie = "wanted"      // the boot goes on without it
	Required Tie = "required"
)

// Reason is why the boot makes no unit of a line.
type Reason string

// The reasons.
const (
	NotPath   Reason = "the mount point holds no /: the line is passed over"
	OfSystemd Reason = "systemd mounts that itself, and takes the options alone"
	Second    Reason = "an earlier line has this place: the first one counts"
	NoName    Reason = "no unit can be named for it: two dots in a path"
	NoNeed    Reason = "x-systemd.requires, after or before name nothing"
	Dies      Reason = "a timeout without a value: systemd's reader dies there"
	Dead      Reason = "systemd's reader died at an earlier line"
	Autofs    Reason = "autofs: that is a service's to mount"
)

// Real gives a mount point, from the root and without empty parts, with its symbolic links followed, as far as they lead somewhere.
// Where it cannot be followed, ok is false: then it counts as written.
type Real func(dir string) (real string, ok bool)

// Read gives what systemd makes of each line that the reader takes, in the order of the
// lines. A nil real takes no directory for a link.
func Read(f *File, real Real) (out []Unit) {
	taken := map[string]bool{}
	dead := false
	for _, l := range f.Entries() {
		u := Unit{Line: l.Number, Entry: *l.Entry}
		if dead {
			u.None = Dead
		} else {
			u.made(real, taken)
		}
		dead = dead || u.None == Dies
		out = append(out, u)
	}
	waits(out)
	return out
}

// waits gives every line of a device the same time: it is the device's, and the last line
// that says one decides.
func waits(units []Unit) {
	times := map[string]string{}
	for _, u := range units {
		if u.Device != "" {
			times[clean(u.What)] = u.Device
		}
	}
	for i := range units {
		if u := &units[i]; u.None == "" && IsNode(u.What) {
			u.Device = times[clean(u.What)]
		}
	}
}

// made follows the generator step by step, for it gives up at the first that fails.
func (u *Unit) made(real Real, taken map[string]bool) {
	e := u.Entry
	u.What = Node(e.Spec)
	place := u.What
	if !e.IsSwap() {
		if !strings.Contains(e.Dir, "/") {
			u.None = NotPath
			return
		}
		u.Where = where(e.Dir, real)
		place = u.Where
		switch {
		case ofSystemd(place):
			u.None = OfSystemd
			return
		case e.Type == "autofs":
			u.None = Autofs
			return
		}
	}
	name := clean(place)
	switch {
	case !nameable(name):
		u.None = NoName
		return
	case taken[name]:
		u.None = Second
		return
	}
	taken[name] = true
	switch {
	case !e.IsSwap() && !needs(e):
		u.None = NoNeed
	case IsNode(u.What) && !nameable(clean(u.What)):
		u.None = NoName
	case valueless(e, u):
		u.None = Dies
	default:
		u.tie()
		u.times()
		u.options()
	}
}

// options are those that the unit has.
func (u *Unit) options() {
	u.Options = slices.Clone(u.Entry.Options)
	if u.Entry.IsSwap() {
		return
	}
	u.Options = slices.DeleteFunc(u.Options, func(o string) bool {
		return name(o, "x-systemd.device-timeout") || name(o, "comment=systemd.device-timeout")
	})
	if u.background() {
		u.Options = slices.Concat([]string{"x-systemd.mount-timeout=infinity", "retry=10000", "nofail"}, u.Options, []string{"fg"})
	}
}

// background reports whether the kind mounts in the background, which systemd does by itself.
func (u *Unit) background() bool {
	return (u.Entry.Type == "nfs" || u.Entry.Type == "nfs4") && !u.Automount && u.Entry.On("bg", "fg")
}

// tie says what pulls the unit in.
func (u *Unit) tie() {
	e := u.Entry
	noauto, nofail := e.NoAuto(), e.NoFail()
	u.Automount = e.Automount() && !e.IsSwap()
	if u.Where == "/" {
		noauto, nofail, u.Automount = false, false, false
	}
	u.Check = e.Pass != 0 && IsNode(u.What) && !e.IsSwap()
	target := "local-fs.target"
	switch {
	case e.IsSwap():
		target = "swap.target"
	case e.Network():
		target = "remote-fs.target"
	}
	if u.background() {
		nofail = true
	}
	u.Late = nofail && !e.IsSwap()
	u.Tie = Required
	if nofail {
		u.Tie = Wanted
	}
	if noauto && !u.Automount {
		u.Tie = Untied
	}
	var named []Pull
	for _, o := range e.Options {
		if t, ok := strings.CutPrefix(o, "x-systemd.required-by="); ok {
			named = append(named, Pull{t, Required})
		} else if t, ok = strings.CutPrefix(o, "x-systemd.wanted-by="); ok {
			named = append(named, Pull{t, Wanted})
		}
	}
	switch {
	case len(named) > 0 && !e.IsSwap() && u.Where != "/" && !u.Automount:
		u.By, u.Tie = named, Wanted
		if slices.ContainsFunc(named, func(p Pull) bool { return p.Tie == Required }) {
			u.Tie = Required
		}
	case u.Tie != Untied:
		u.By = []Pull{{target, u.Tie}}
	}
}

// times are the three timeouts. A device is waited for, nothing else.
func (u *Unit) times() {
	e := u.Entry
	if t, _ := last(e, "x-systemd.device-timeout", "comment=systemd.device-timeout"); IsNode(u.What) && IsTime(t) {
		u.Device = t
	}
	if e.IsSwap() {
		return
	}
	t, named := last(e, "x-systemd.mount-timeout")
	if u.background() && !named {
		t = "infinity"
	}
	if IsTime(t) {
		u.Mount = t
	}
	if t, _ := last(e, "x-systemd.idle-timeout"); u.Automount && IsTime(t) {
		u.Idle = t
	}
}

// last gives the value of the last option of either name that has one.
func last(e Entry, names ...string) (value string, ok bool) {
	for _, o := range e.Options {
		for _, n := range names {
			if name(o, n) && o != n {
				value, ok = o[len(n)+1:], true
			}
		}
	}
	return value, ok
}

// valueless reports whether the reader meets a timeout without a value.
func valueless(e Entry, u *Unit) bool {
	bare := func(names ...string) bool {
		at := ""
		for _, o := range e.Options {
			if slices.ContainsFunc(names, func(n string) bool { return name(o, n) }) {
				at = o
			}
		}
		return slices.Contains(names, at)
	}
	automount := e.Automount() && u.Where != "/"
	return bare("x-systemd.device-timeout", "comment=systemd.device-timeout") ||
		!e.IsSwap() && (bare("x-systemd.mount-timeout") || automount && bare("x-systemd.idle-timeout"))
}

// needs reports whether a unit can be named for each of the units that the line depends on.
func needs(e Entry) bool {
	for _, key := range []string{"x-systemd.requires", "x-systemd.after", "x-systemd.before"} {
		for _, v := range e.Values(key) {
			if _, ok := unit.Meant(v); !ok {
				return false
			}
		}
	}
	return true
}

// ofSystemd reports whether systemd mounts the place before it reads any table.
func ofSystemd(dir string) bool {
	switch dir {
	case "/proc", "/sys", "/dev", "/run", "/dev/shm", "/dev/pts", "/dev/console", "/run/lock", "/run/host", "/proc/kmsg", "/proc/sys", "/proc/sys/kernel/random/boot_id",
		"/sys/kernel/security", "/sys/fs/smackfs", "/sys/fs/cgroup", "/sys/fs/pstore", "/sys/firmware/efi/efivars", "/sys/fs/bpf", "/sys/fs/selinux":
		return true
	}
	return strings.HasPrefix(dir, "/sys/fs/cgroup/") || strings.HasPrefix(dir, "/run/host/")
}

// FromRoot is a mount point as it is written, from the root and without empty parts.
func FromRoot(dir string) string {
	at := clean(dir)
	if !strings.HasPrefix(at, "/") {
		at = "/" + at
	}
	return at
}

// where is the place of a mount point: links followed as well.
func where(dir string, real Real) string {
	at := FromRoot(dir)
	if real != nil {
		if to, ok := real(at); ok {
			return to
		}
	}
	return at
}

// clean leaves out empty parts and single dots, and nothing else: what .. means depends on
// links.
func clean(p string) string {
	var parts []string
	for part := range strings.SplitSeq(p, "/") {
		if part != "" && part != "." {
			parts = append(parts, part)
		}
	}
	joined := strings.Join(parts, "/")
	if strings.HasPrefix(p, "/") {
		return "/" + joined
	}
	return joined
}

// nameable reports whether a unit can have the path's name: two dots have no place in one.
func nameable(p string) bool {
	return !slices.Contains(strings.Split(p, "/"), "..")
}

// IsNode reports whether the word is a device of /dev, for which the boot waits.
func IsNode(what string) bool {
	p := clean(what)
	return strings.HasPrefix(p, "/dev/") || strings.HasPrefix(p, "/sys/")
}
