package kind

import (
	"slices"
	"strings"
	"sync"

	"fundus/core/mountopt"
)

// inMemory is what needs no device and has options of its own that are known.
func inMemory() Mounts { return Mounts{[]string{"tmpfs"}, mountopt.InMemory} }

// Options are the mount options of a type: those of its kind, and those of every mount.
func Options(typ string) mountopt.Table {
	if t, known := optionTables()[typ]; known {
		return t
	}
	return mountopt.For(typ, nil)
}

// optionTables are those of the types whose own options are known.
var optionTables = sync.OnceValue(func() map[string]mountopt.Table {
	out := map[string]mountopt.Table{}
	for _, m := range mounts() {
		for _, typ := range m.As {
			if _, first := out[typ]; !first {
				out[typ] = mountopt.For(typ, m.Rows())
			}
		}
	}
	return out
})

// MountTypes lists the types whose own options are known.
func MountTypes() (types []string) {
	for _, m := range mounts() {
		types = append(types, m.As...)
	}
	return types
}

func mounts() (out []Mounts) {
	for _, k := range All() {
		if k.Options != nil {
			out = append(out, *k.Options)
		}
	}
	return append(out, inMemory())
}

// IsMounted reports whether Linux mounts something by the word, as far as it is known.
func IsMounted(word string) bool {
	word, _, _ = strings.Cut(word, ",") // of several, any
	if slices.Contains(MountTypes(), word) || slices.Contains([]string{"nfs", "nfs4", "cifs", "overlay", "tmpfs", "proc", "sysfs"}, word) {
		return true
	}
	return slices.ContainsFunc(All(), func(k Kind) bool { return k.Name == word || slices.Contains(k.Types, word) })
}

// OnlyRead reports whether no mount of the type can be written to.
func OnlyRead(typ string) bool {
	return slices.ContainsFunc(All(), func(k Kind) bool { return k.OnlyRead && k.Options != nil && slices.Contains(k.Options.As, typ) })
}

// Elsewhere lists the types that have an option which this type has not.
func Elsewhere(typ, option string) (types []string) {
	for _, other := range MountTypes() {
		row, ok := Options(other).Find(option)
		if ok && row.To == mountopt.Own && other != typ {
			types = append(types, other)
		}
	}
	return types
}
