// Package text is what text files that name devices have in common: each is one Syntax,
// which finds the places that name a device, and writes another name into one of them
// without changing any other byte. One folder below a syntax.
package text

import (
	"errors"
	"slices"
	"strings"
)

// Mention is a place in a file that names a device.
type Mention struct {
	Line       int    // from 1
	Text       string // the line, trimmed, or what of it matters
	Spec       string // "UUID=…", "/dev/sda1", escapes resolved
	By         string // what it is for: "root", "resume"; empty for a field of its own
	Start, End int    // bytes of the file that hold the name
	Bare       bool   // they hold the identifier alone, without UUID=
}

// Syntax is how files of one form name devices.
type Syntax interface {
	// Mentions lists the places in their order. What cannot be read is left out.
	Mentions(data []byte) []Mention
	// Say gives the file with another name in a place that Mentions found in it, or
	// ErrUnsayable where the name cannot stand there.
	Say(data []byte, m Mention, spec string) ([]byte, error)
}

// ErrUnsayable is a name that the form of a file has no way to write.
var ErrUnsayable = errors.New("the name cannot be written in this file")

// Put gives the file with other bytes in the place of a mention.
func Put(data []byte, m Mention, name string) []byte {
	return slices.Concat(data[:m.Start], []byte(name), data[m.End:])
}

// Tags lists the words for identifiers of devices, which udev has links for.
func Tags() []string { return []string{"UUID", "LABEL", "PARTUUID", "PARTLABEL"} }

// IsDevice reports whether the word names a device: by an identifier or by a path.
func IsDevice(spec string) bool {
	return strings.HasPrefix(spec, "/dev/") || slices.ContainsFunc(Tags(), func(tag string) bool { return strings.HasPrefix(spec, tag+"=") })
}
