// Package boot works through what the next boot would do with the machine's
// fstab, on an inventory alone, and says whether it comes up.
//
// A line without nofail is required by local-fs.target: where its device does
// not appear within its timeout, or the mount fails, systemd ends in an
// emergency shell. With nofail the boot goes on without it. A missing swap
// area only delays. What is not modelled is unknown, with the reason.
//
// Source: systemd.mount(5), systemd.swap(5), systemd-fstab-generator(8).
package boot

import (
	"fmt"
	"slices"
	"strings"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/text/fstab"
)

// Outcome is what becomes of one line, from the best to the worst.
type Outcome string

// The outcomes.
const (
	Fine      Outcome = "mounted"
	Waiting   Outcome = "not at boot" // noauto
	Unknown   Outcome = "unknown"
	Left      Outcome = "left out" // nofail: the boot goes on without it
	Delay     Outcome = "delays the boot"
	Emergency Outcome = "emergency shell"
)

func (o Outcome) rank() int {
	return slices.Index([]Outcome{Fine, Waiting, Unknown, Left, Delay, Emergency}, o)
}

// Line is the result of one line of fstab.
type Line struct {
	Number  int
	Spec    string
	Dir     string
	Kind    string
	Device  string // name of the node, "" where there is none
	Outcome Outcome
	Reason  string
	NoFail  bool
	Options string
	Pass    int
	Raw     string // as it stands
}

// Report is the rehearsal.
type Report struct {
	Lines   []Line
	Verdict Verdict
}

// Verdict is the whole boot's result.
type Verdict string

// The verdicts.
const (
	ComesUp    Verdict = "comes up"
	WithDelays Verdict = "comes up with delays"
	Shell      Verdict = "emergency shell"
)

// DefaultTimeout is how long systemd waits for a device.
const DefaultTimeout = "90s"

// Rehearse goes through the fstab of the inventory.
func Rehearse(v *inventory.Inventory) Report {
	var r Report
	worst, by := Fine, v.Resolver()
	for _, l := range v.Fstab().Lines {
		if l.Entry == nil && l.Err == nil {
			continue
		}
		line := Line{Number: l.Number, Outcome: Left, Reason: fmt.Sprint(l.Err), Raw: l.Raw}
		if l.Entry != nil {
			line = rehearse(v, by, l)
		}
		r.Lines = append(r.Lines, line)
		if line.Outcome.rank() > worst.rank() {
			worst = line.Outcome
		}
	}
	switch worst {
	case Emergency:
		r.Verdict = Shell
	case Delay:
		r.Verdict = WithDelays
	default:
		r.Verdict = ComesUp
	}
	return r
}

// A wrong "comes up" costs more than a refusal to say: what is not known, such as an option
// or a kind that is not modelled, is unknown, with the reason, and no line is assumed to
// work.
func rehearse(v *inventory.Inventory, by *inventory.Resolver, l fstab.Line) Line {
	e := *l.Entry
	line := Line{Number: l.Number, Spec: e.Spec, Dir: e.Dir, Kind: e.Type, NoFail: e.Has("nofail"), Options: strings.Join(e.Options, ","), Pass: e.Pass, Raw: l.Raw}
	failed := Emergency
	switch {
	case line.NoFail:
		failed = Left
	case e.IsSwap():
		failed = Delay
	}
	set := func(o Outcome, format string, args ...any) Line {
		line.Outcome, line.Reason = o, fmt.Sprintf(format, args...)
		return line
	}
	if e.Has("noauto") {
		return set(Waiting, "noauto: mounted only when asked for")
	}
	if reason, known := modelled(e); !known {
		return set(Unknown, "%s", reason)
	}
	if memoryKind(e.Type) {
		return set(Fine, "in memory, needs no device")
	}
	nodes := by.Resolve(e.Spec)
	if len(nodes) == 0 && strings.HasPrefix(e.Spec, "/dev/") && !strings.HasPrefix(e.Spec, "/dev/sd") && !known(v, e.Spec) {
		return set(Unknown, "%s: only plain device names and identifiers are modelled", e.Spec)
	}
	if len(nodes) > 1 {
		return set(Unknown, "%s is carried by %s and %s: which is taken is chance", e.Spec, nodes[0].Name, nodes[1].Name)
	}
	if hidden := unread(v); len(nodes) == 0 && hidden != "" {
		return set(Unknown, "no device that can be read has %s; it may be on %s", e.Spec, hidden)
	}
	if len(nodes) == 0 {
		reason := missing(v, e)
		if failed == Emergency || failed == Delay {
			reason += "; the boot waits " + timeout(e)
		}
		return set(failed, "%s", reason)
	}
	line.Device = nodes[0].Name
	if reason := mountable(nodes[0], e); reason != "" {
		return set(failed, "%s: %s", line.Device, reason)
	}
	if !e.IsSwap() && !v.Dirs[e.Dir] {
		return set(Fine, "%s; systemd makes the directory %s", line.Device, e.Dir)
	}
	return set(Fine, "%s", line.Device)
}

func known(v *inventory.Inventory, path string) bool {
	return slices.ContainsFunc(v.Nodes, func(n inventory.Node) bool { return strings.HasPrefix(path, n.Path) })
}

func timeout(e fstab.Entry) string {
	if t, ok := e.Value("x-systemd.device-timeout"); ok {
		return t
	}
	return DefaultTimeout
}

// unread names a device that could not be read, on which anything may be.
func unread(v *inventory.Inventory) string {
	for _, n := range v.Nodes {
		if n.Form != inventory.Image && (n.Silent || n.Problem != "" && len(n.Contents) == 0 && n.Size > 0) {
			return n.Name
		}
	}
	return ""
}

// missing says why the word names no device.
//
// A fence hides the identifier that it stands in place of: then the way out is to recover,
// not to mend the line.
func missing(v *inventory.Inventory, e fstab.Entry) string {
	for _, n := range v.Nodes {
		if c, ok := n.Content(); ok && c.Class == fs.Fence {
			return fmt.Sprintf("no device has %s; %s is fenced by a deed that was cut short (fundus recover)", e.Spec, n.Name)
		}
	}
	return fmt.Sprintf("no device has %s", e.Spec)
}

// mountable says why the kernel would refuse the node as the entry's type.
//
// It asks what the kernel asks at the mount, as far as that can be seen from outside:
// class, kind, damage, features, size.
func mountable(n inventory.Node, e fstab.Entry) string {
	c, ok := n.Content()
	switch {
	case n.Problem != "":
		return n.Problem
	case !ok && len(n.Contents) > 1:
		return "it carries several signatures: " + n.Holds()
	case !ok:
		return "it holds no file system"
	case c.Class == fs.Fence:
		return "it is fenced by a deed that was cut short (fundus recover)"
	case !c.MountsAs(e.Type):
		return fmt.Sprintf("it holds %s, not %s", c.Kind, e.Type)
	case c.State == fs.Damaged:
		return "its superblock is damaged"
	case len(c.Unknown) > 0:
		return "it has features that are not known: " + strings.Join(c.Unknown, ", ")
	case c.Size > quantity.Bytes(n.Size):
		return fmt.Sprintf("the file system has %d bytes, the device only %d", c.Size, n.Size)
	}
	return ""
}

func memoryKind(typ string) bool {
	return slices.Contains([]string{"tmpfs", "proc", "sysfs", "devpts", "devtmpfs", "debugfs", "tracefs", "securityfs", "cgroup2", "efivarfs", "mqueue", "hugetlbfs"}, typ)
}

// modelled reports whether the rehearsal knows what the entry does.
//
// One option that the kernel does not know fails the whole mount, so that an option which
// is not in the list makes the line unknown, and never fine.
func modelled(e fstab.Entry) (string, bool) {
	if slices.Contains([]string{"nfs", "nfs4", "cifs", "ceph", "glusterfs", "sshfs", "9p", "afs"}, e.Type) || strings.HasPrefix(e.Type, "fuse") || e.Has("_netdev") {
		return "a network or user-space file system is not modelled", false
	}
	if e.Type == "none" || e.Type == "overlay" || e.Has("bind") || e.Has("rbind") {
		return "bind and overlay mounts are not modelled", false
	}
	for _, o := range e.Options {
		name, _, _ := strings.Cut(o, "=")
		if !slices.Contains(knownOptions(), name) && !strings.HasPrefix(name, "x-") && !strings.HasPrefix(name, "comment") {
			return fmt.Sprintf("the option %q is not modelled; the kernel refuses options that it does not know", o), false
		}
	}
	return "", true
}

// knownOptions are those of mount(2) and of the kinds that are modelled.
func knownOptions() []string {
	return []string{"defaults", "rw", "ro", "auto", "noauto", "nofail", "suid", "nosuid", "dev", "nodev", "exec", "noexec", "sync", "async", "dirsync",
		"user", "nouser", "users", "owner", "group", "atime", "noatime", "nodiratime", "diratime", "relatime", "norelatime", "strictatime", "lazytime", "iversion",
		"mand", "nomand", "silent", "loud", "sw", "pri", "discard", "nodiscard",
		"errors", "commit", "data", "acl", "noacl", "user_xattr", "nouser_xattr", "journal_checksum", "barrier", "nobarrier", "delalloc", "nodelalloc", "stripe", "noload", "norecovery", "usrquota", "grpquota", "prjquota", "quota", "noquota", "init_itable", "noinit_itable", "max_batch_time", "min_batch_time", "resuid", "resgid",
		"umask", "fmask", "dmask", "uid", "gid", "iocharset", "codepage", "utf8", "shortname", "flush", "tz",
		"size", "mode", "nr_inodes", "inode64", "logbufs", "logbsize", "allocsize", "largeio", "swalloc", "sunit", "swidth", "nouuid"}
}
