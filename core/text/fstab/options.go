package fstab

import (
	"slices"
	"strings"
)

// Split gives the options of a list. A comma behind a backslash is part of an option, and
// empty ones are none.
func Split(list string) (out []string) {
	start := 0
	for i := 0; i <= len(list); i++ {
		switch {
		case i < len(list) && list[i] == '\\':
			i++
		case i >= len(list) || list[i] == ',':
			if word := list[start:min(i, len(list))]; word != "" {
				out = append(out, word)
			}
			start = i + 1
		}
	}
	if start < len(list) { // it ends with a lone backslash
		out = append(out, list[start:])
	}
	return out
}

// Has reports whether the option is set, as a word or with a value.
func (e Entry) Has(option string) bool {
	return slices.ContainsFunc(e.Options, func(o string) bool { return name(o, option) })
}

// Value is the value of the last option of that name; "" for a plain word.
func (e Entry) Value(option string) (value string, ok bool) {
	for _, o := range e.Options {
		if name(o, option) {
			_, value, _ = strings.Cut(o[len(option):], "=")
			ok = true
		}
	}
	return value, ok
}

// On reports whether the last of the two words that stands in the line is the first:
// Of("nofail", "fail").
func (e Entry) On(yes, no string) (on bool) {
	for _, o := range e.Options {
		switch {
		case name(o, yes):
			on = true
		case name(o, no):
			on = false
		}
	}
	return on
}

// NoAuto reports whether nothing mounts it at boot by itself.
func (e Entry) NoAuto() bool { return e.On("noauto", "auto") }

// NoFail reports whether the boot goes on without it.
func (e Entry) NoFail() bool { return e.On("nofail", "fail") }

// Automount reports whether it is mounted at the first access. It needs no value, and none
// turns it off.
func (e Entry) Automount() bool {
	return e.Has("x-systemd.automount") || e.Has("comment=systemd.automount")
}

// name reports whether the option has the name, with a value or without.
func name(option, is string) bool {
	rest, ok := strings.CutPrefix(option, is)
	return ok && (rest == "" || rest[0] == '=')
}

// network lists the kinds that systemd mounts with the network.
func network() []string {
	return []string{
		"afs", "ceph", "cifs", "smb3", "smbfs", "sshfs", "ncpfs", "ncp", "nfs", "nfs4", "gfs", "gfs2", "glusterfs",
		"pvfs2", "ocfs2", "lustre", "davfs",
	}
}

// Network reports whether systemd takes the line for one that needs the network.
func (e Entry) Network() bool {
	return e.Has("_netdev") || slices.Contains(network(), strings.TrimPrefix(e.Type, "fuse."))
}

// Values lists the values of every option of the name; a word without a value is none.
func (e Entry) Values(option string) (out []string) {
	for _, o := range e.Options {
		if rest, ok := strings.CutPrefix(o, option+"="); ok {
			out = append(out, rest)
		}
	}
	return out
}
