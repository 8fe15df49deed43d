package unit

import (
	"fmt"
	"slices"
	"strings"
)

// suffixes are those of the types of units.
func suffixes() []string {
	return []string{".service", ".mount", ".swap", ".socket", ".target", ".device", ".automount", ".timer", ".path", ".slice", ".scope"}
}

// Suffix is the type of a unit by its name, with the dot; "" for a name that is none.
func Suffix(name string) string {
	at := strings.LastIndexByte(name, '.')
	if at <= 0 || !slices.Contains(suffixes(), name[at:]) {
		return ""
	}
	return name[at:]
}

// most is how long the name of a unit may be.
const most = 255

// Valid reports whether the name is one that a unit can have.
func Valid(name string) bool {
	return Suffix(name) != "" && len(name) <= most && name[0] != '@' &&
		strings.IndexFunc(name, func(r rune) bool { return !allowed(r) && r != '@' }) < 0
}

func allowed(r rune) bool {
	return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune(`:-_.\`, r)
}

// Meant is the unit that a word means where systemd takes a path as well as a name: a device,
// a mount point, or the name as far as it can be one. It is false where there is none.
//
// Source: systemd-escape(1) on mangling, held against systemd's generator by a test.
func Meant(word string) (name string, ok bool) {
	parts := strings.Split(word, "/")
	path := strings.HasPrefix(word, "/") && !slices.Contains(parts, "..")
	switch {
	case word == "":
		return "", false
	case Valid(word):
		return word, true
	case path && (strings.HasPrefix(word, "/dev/") || strings.HasPrefix(word, "/sys/")):
		name = Name(word, "device")
	case path:
		name = Name(word, "mount")
	default:
		var b strings.Builder
		for i := range len(word) {
			switch c := word[i]; {
			case c == '/':
				b.WriteByte('-')
			case allowed(rune(c)) || c == '@':
				b.WriteByte(c)
			default:
				fmt.Fprintf(&b, `\x%02x`, c)
			}
		}
		if name = b.String(); Suffix(name) == "" {
			name += ".mount"
		}
	}
	return name, Valid(name)
}
