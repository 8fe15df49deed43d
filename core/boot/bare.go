package boot

import (
	"slices"
	"strings"

	"fundus/core/kind"
	"fundus/core/mountopt"
)

// withoutDevice rehearses a line that no device is waited for: files, binds, what is in
// memory, and words that name nothing.
func (m *machine) withoutDevice(l *Line) {
	u := l.Unit
	e := u.Entry
	there, looked := m.v.Sources[u.What]
	bound := e.Has("bind") || e.Has("rbind")
	switch {
	case e.IsSwap() && !strings.HasPrefix(u.What, "/"):
		l.fails("%q is no path: nothing can be swapped on it", u.What)
	case e.IsSwap() && !looked:
		l.is(Unknown, "whether the file %s is there cannot be told", u.What)
	case e.IsSwap() && !there && !m.covered(u.What):
		l.fails("there is no file %s; the boot goes on without it", u.What)
	case e.IsSwap():
		l.is(Fine, "the file %s; no device is waited for", u.What)
	case bound && (!looked || !there && m.covered(u.What)):
		l.is(Unknown, "%s lies on what is mounted before it, and cannot be seen from here", u.What)
	case bound && !there:
		l.fails("there is no %s to be mounted a second time", u.What)
	case bound:
		l.is(Fine, "%s, a second time; no device is waited for", u.What)
	case inMemory(e.Type):
		if f, wrong := refused(e.Type, e.Options); wrong {
			l.fails("the kernel refuses the mount: %s", f.Says)
			return
		}
		l.is(Fine, "in memory, needs no device")
	case e.Has("loop") || strings.HasPrefix(u.What, "/"):
		l.is(Unknown, "%s is a file: what is in it is not looked at", u.What)
	case slices.Contains(kind.MountTypes(), e.Type) && e.Type != "tmpfs":
		l.fails("%q is read as the name of a file: no device is waited for, and none is mounted", e.Spec)
	default:
		l.is(Unknown, "nothing is waited for; whether this kernel mounts %q cannot be told", e.Type)
	}
}

// covered reports whether a path lies below a place that another line mounts, and is not
// seen before.
func (m *machine) covered(path string) bool {
	for _, u := range m.units {
		if _, mounted := m.v.MountedAt(u.Where); !mounted && u.None == "" && u.Where != "/" && u.Where != "" && strings.HasPrefix(path, u.Where+"/") {
			return true
		}
	}
	return false
}

func refused(typ string, options []string) (mountopt.Fault, bool) {
	for _, f := range kind.Options(typ).Check(options, nil) {
		if f.Trouble.Refused() {
			return f, true
		}
	}
	return mountopt.Fault{}, false
}

// inMemory lists what the kernel makes up by itself.
func inMemory(typ string) bool {
	return slices.Contains([]string{"tmpfs", "ramfs", "proc", "sysfs", "devpts", "devtmpfs", "debugfs", "tracefs", "securityfs", "cgroup", "cgroup2", "efivarfs", "mqueue", "hugetlbfs",
		"bpf", "configfs", "binfmt_misc", "pstore", "nfsd", "rpc_pipefs", "selinuxfs", "fusectl"}, typ)
}
