// Package crypttab reads the table of encrypted devices: a line has a name, a device, a
// key and options, with blanks between and no quotes. The key may lie on a device of its
// own, which then stands behind the path and a colon.
//
// Source: crypttab(5).
package crypttab

import (
	"regexp"
	"slices"
	"strings"

	"fundus/core/text"
)

// Path is where the table lies.
const Path = "/etc/crypttab"

// Syntax is the table's.
type Syntax struct{}

// Places of the fields in a line.
const (
	device = 1
	key    = 2
)

// Mentions implements text.Syntax: the device of each line, and that of its key.
func (Syntax) Mentions(data []byte) (out []text.Mention) {
	at, number := 0, 0
	for line := range strings.Lines(string(data)) {
		number++
		fields := regexp.MustCompile(`\S+`).FindAllStringIndex(line, -1)
		if len(fields) > device && line[fields[0][0]] != '#' {
			words := strings.TrimSpace(line)
			add := func(start, end int, by string) {
				if spec := line[start:end]; text.IsDevice(spec) {
					out = append(out, text.Mention{Line: number, Text: words, Spec: spec, By: by, Start: at + start, End: at + end})
				}
			}
			add(fields[device][0], fields[device][1], "")
			if len(fields) > key {
				start, end := fields[key][0], fields[key][1]
				if _, on, ok := strings.Cut(line[start:end], ":"); ok {
					add(end-len(on), end, "key")
				}
			}
		}
		at += len(line)
	}
	return out
}

// Say implements text.Syntax.
//
// The reader of the table knows neither quotes nor escapes: a name with a blank has no
// form.
func (Syntax) Say(data []byte, m text.Mention, spec string) ([]byte, error) {
	if spec == "" || strings.ContainsAny(spec, " \t\r\n") {
		return nil, text.ErrUnsayable
	}
	return text.Put(data, m, spec), nil
}

// Entry is one line of the table.
type Entry struct {
	Line    int
	Name    string // below /dev/mapper
	Device  string
	Key     string // a path, or "" where a person is asked
	Options []string
}

// Entries lists the lines.
func Entries(data []byte) (out []Entry) {
	number := 0
	for line := range strings.Lines(string(data)) {
		number++
		f := strings.Fields(line)
		if len(f) <= device || f[0][0] == '#' {
			continue
		}
		e := Entry{Line: number, Name: f[0], Device: f[device]}
		if len(f) > key && f[key] != "none" && f[key] != "-" {
			e.Key = f[key]
		}
		if len(f) > key+1 {
			e.Options = strings.Split(f[key+1], ",")
		}
		out = append(out, e)
	}
	return out
}

// Has reports whether the option is set, alone or with a value.
func (e Entry) Has(option string) bool {
	return slices.ContainsFunc(e.Options, func(o string) bool { return o == option || strings.HasPrefix(o, option+"=") })
}

// Value is the value of an option.
func (e Entry) Value(option string) (value string) {
	for _, o := range e.Options {
		if v, ok := strings.CutPrefix(o, option+"="); ok {
			value = v
		}
	}
	return value
}
