// Package propose works out what a new line of fstab says for a device: by which name, with
// which options and numbers, each with its reason. It computes on an inventory alone.
//
// The rules come from what stops machines: most emergency shells are data disks that are
// missing and that nothing needs, and most wrong mounts are names that changed.
package propose

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/text/fstab"
)

// Ask is what somebody wants of the line.
type Ask struct {
	Dir        string // mount point, from the root; empty for swap
	Type       string // "" for what is on the device
	Options    []string
	Preset     []string // of the configuration, for this kind and bus
	Fixed      bool     // Options are all that is wanted of the kind: only what is about the boot is proposed
	Needed     bool     // the boot is to stop without it
	Automount  bool
	Idle       string // after what time without use it is unmounted
	DeviceWait string // how long the boot waits for the device
}

// Reason is an option with why it is proposed.
type Reason struct{ Option, Why string }

// Line is the proposal.
type Line struct {
	Entry   fstab.Entry
	Reasons []Reason
	Notes   []string
}

// ErrRemovableSwap is swap that the boot would wait for in vain.
var ErrRemovableSwap = errors.New("swap on what can be pulled out holds up every boot without it, nofail or not")

// For proposes the line of a node; its Spec is left to Name.
func For(v *inventory.Inventory, n inventory.Node, ask Ask) (Line, error) {
	c, _ := n.Content()
	l := Line{Entry: fstab.Entry{Dir: ask.Dir, Type: ask.Type}}
	if l.Entry.Type == "" {
		l.Entry.Type = c.MountType()
	}
	r := rules{v: v, n: n, c: c, disk: diskOf(v, n), ask: ask, line: &l}
	if l.Entry.IsSwap() {
		l.Entry.Dir = "none"
		return l, r.swap()
	}
	if l.Entry.Pass = c.Pass; ask.Dir == "/" && c.Pass > 0 {
		l.Entry.Pass = 1
	}
	r.mount()
	return l, nil
}

// diskOf is the node whose hardware counts.
func diskOf(v *inventory.Inventory, n inventory.Node) inventory.Node {
	if d, ok := v.Node(n.Disk()); ok {
		return d
	}
	return n
}

type rules struct {
	v       *inventory.Inventory
	n, disk inventory.Node
	c       fs.Content
	ask     Ask
	line    *Line
}

// say adds an option, unless the line has it or its opposite.
func (r *rules) say(option, why string) {
	name, _, _ := strings.Cut(option, "=")
	opposite := map[string]string{"nofail": "fail", "ro": "rw"}[name]
	for _, o := range r.line.Entry.Options {
		if had, _, _ := strings.Cut(o, "="); had == name || had == opposite {
			return
		}
	}
	r.line.Entry.Options = append(r.line.Entry.Options, option)
	r.line.Reasons = append(r.line.Reasons, Reason{option, why})
}

func (r *rules) mount() {
	e := &r.line.Entry
	e.Options = slices.Clone(r.ask.Options)
	if r.ask.Automount {
		r.say("x-systemd.automount", "mounted at the first access")
	}
	if r.ask.Idle != "" {
		r.say("x-systemd.idle-timeout="+r.ask.Idle, "unmounted after this time without use")
	}
	if r.ask.DeviceWait != "" {
		r.say("x-systemd.device-timeout="+r.ask.DeviceWait, "as asked for")
	}
	if !r.ask.Fixed {
		for _, o := range r.ask.Preset {
			r.say(o, "by the configuration")
		}
		r.kind()
	}
	r.need()
	if len(e.Options) == 0 {
		e.Options = []string{"defaults"}
	}
}

// kind is what the content asks for.
func (r *rules) kind() {
	switch {
	case firmware(r.line.Entry.Dir) && r.ownerless():
		r.say("umask=0077", "it holds keys, and stores no owners")
	case r.ownerless():
		r.line.Notes = append(r.line.Notes, "it keeps no owners: every file is root's; uid= and umask= among the options say otherwise")
	}
	if r.c.State == fs.Dirty && r.ownerless() && !r.c.Grows {
		r.say("ro", "it was not unmounted by the system that wrote it last")
	}
}

// ownerless reports whether the content keeps no owners of files.
func (r *rules) ownerless() bool { return r.c.Class == fs.FileSystem && r.c.Ownerless }

// firmware reports whether firmware or the boot loader reads the place.
func firmware(dir string) bool {
	return slices.Contains([]string{"/efi", "/boot/efi", "/boot"}, dir)
}

// need is whether the boot stops without it, and how long it waits.
func (r *rules) need() {
	dir := r.line.Entry.Dir
	parent, loose := r.looseParent()
	switch {
	case dir == "/" || dir == "/usr":
		return
	case r.ask.Needed && loose:
		r.line.Notes = append(r.line.Notes, fmt.Sprintf("it is below %s, which has nofail, and makes that needed too", parent))
	case r.ask.Needed:
		r.line.Notes = append(r.line.Notes, "the boot stops where it is missing, as asked for")
	case r.network():
		r.say("_netdev", "it is reached over the network")
		r.say("nofail", "the boot goes on without it")
	case r.disk.Hardware.ComesAndGoes():
		r.say("nofail", "it can be pulled out: the boot must not stop without it")
		r.say("x-systemd.device-timeout=5s", "where it is missing, the boot waits no longer for it")
	case loose:
		r.say("nofail", "it is below "+parent+", which has nofail")
	case data(dir) && !firmware(dir):
		r.say("nofail", "data that the machine starts without; --needed says otherwise")
	}
}

func (r *rules) network() bool {
	return slices.Contains([]string{"iscsi", "nbd", "network"}, r.disk.Hardware.Bus)
}

// data reports whether a machine usually starts without what is mounted there.
func data(dir string) bool {
	return slices.ContainsFunc([]string{"/srv", "/mnt", "/media", "/opt", "/data"}, func(top string) bool { return dir == top || strings.HasPrefix(dir, top+"/") })
}

// looseParent is a mount point above this one that the boot may leave out.
func (r *rules) looseParent() (string, bool) {
	for _, u := range r.v.Units() {
		if u.None == "" && u.Where != "" && u.Tie == fstab.Wanted &&
			strings.HasPrefix(r.line.Entry.Dir, strings.TrimSuffix(u.Where, "/")+"/") {
			return u.Where, true
		}
	}
	return "", false
}

func (r *rules) swap() error {
	e := &r.line.Entry
	if e.Options = slices.Clone(r.ask.Options); r.ask.DeviceWait != "" {
		r.say("x-systemd.device-timeout="+r.ask.DeviceWait, "as asked for")
	} else if r.disk.Hardware.ComesAndGoes() && !r.ask.Fixed {
		return fmt.Errorf("%s: %w; --device-wait=TIME shortens that", r.n.Name, ErrRemovableSwap)
	}
	if len(e.Options) == 0 {
		e.Options = []string{"defaults"}
	}
	return nil
}
