// Package unit reads systemd's unit files without losing a byte, and knows the
// names of mount and swap units.
//
// A value goes on in the next line where its line ends with a backslash; comments
// in between are left out. Source: systemd.syntax(7), systemd.unit(5),
// systemd-escape(1).
package unit

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// File is a unit file.
type File struct {
	data     []byte
	Settings []Setting
}

// Setting is one KEY=VALUE of a section.
type Setting struct {
	Section, Key, Value string
	Line                int // from 1
	start, end          int // bytes of the value in the file
}

// Parse reads a unit file. Lines that mean nothing are kept and skipped, as
// systemd does.
func Parse(data []byte) *File {
	f := &File{data: data}
	section := ""
	for at, number := 0, 1; at < len(data); {
		line, next := logical(data, at)
		lines := bytes.Count(data[at:next], []byte("\n"))
		text := strings.TrimSpace(line)
		key, _, is := strings.Cut(line, "=")
		switch {
		case text == "" || text[0] == '#' || text[0] == ';':
		case text[0] == '[' && text[len(text)-1] == ']':
			section = text[1 : len(text)-1]
		case is:
			start := at + len(key) + 1
			for start < next && (data[start] == ' ' || data[start] == '\t') {
				start++
			}
			end := max(start, at+len(strings.TrimRight(string(data[at:next]), "\r\n \t")))
			f.Settings = append(f.Settings, Setting{section, strings.TrimSpace(key), joined(data[start:end]), number, start, end})
		}
		at, number = next, number+max(lines, 1)
	}
	return f
}

// logical gives the line at the place as it is, with the lines that it goes on
// in, and where the next one begins. Comments do not go on, but may stand in
// between.
func logical(data []byte, at int) (line string, next int) {
	for next = at; next < len(data); {
		end := next + bytes.IndexByte(data[next:], '\n') + 1
		if end == next {
			end = len(data)
		}
		own := strings.TrimRight(string(data[next:end]), "\r\n")
		text, first := strings.TrimLeft(own, " \t"), next == at
		comment := text != "" && (text[0] == '#' || text[0] == ';')
		next = end
		if comment && first || !comment && !strings.HasSuffix(own, "\\") {
			break
		}
	}
	return string(data[at:next]), next
}

// joined is the value with its lines joined by blanks.
func joined(b []byte) string {
	if !bytes.Contains(b, []byte("\\\n")) {
		return string(b)
	}
	var words []string
	for line := range strings.Lines(string(b)) {
		line = strings.TrimSpace(strings.TrimSuffix(strings.TrimRight(line, "\r\n"), "\\"))
		if line != "" && line[0] != '#' && line[0] != ';' {
			words = append(words, line)
		}
	}
	return strings.Join(words, " ")
}

// Get gives the last value of the key, as systemd takes it.
func (f *File) Get(section, key string) (Setting, bool) {
	for i := len(f.Settings) - 1; i >= 0; i-- {
		if s := f.Settings[i]; s.Section == section && s.Key == key {
			return s, true
		}
	}
	return Setting{}, false
}

// Bytes gives the file as it is to be stored.
func (f *File) Bytes() []byte { return f.data }

// Set gives the file with another value in the place of the setting.
func (f *File) Set(s Setting, value string) *File {
	var b bytes.Buffer
	b.Write(f.data[:s.start])
	b.WriteString(value)
	b.Write(f.data[s.end:])
	return Parse(b.Bytes())
}

// What is the device that a mount or a swap unit names.
func (f *File) What() (Setting, bool) {
	if s, ok := f.Get("Mount", "What"); ok {
		return s, true
	}
	return f.Get("Swap", "What")
}

// Name is what systemd calls the unit of a path: "srv-herbarium.mount".
func Name(path, suffix string) string {
	parts := slices.DeleteFunc(strings.Split(path, "/"), func(part string) bool { return part == "" || part == "." })
	path = strings.Join(parts, "/")
	if path == "" {
		return "-." + suffix
	}
	var b strings.Builder
	for i := range len(path) {
		c := path[i]
		switch {
		case c == '/':
			b.WriteByte('-')
		case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', c >= '0' && c <= '9', c == ':', c == '_', c == '.' && i > 0:
			b.WriteByte(c)
		default:
			fmt.Fprintf(&b, "\\x%02x", c)
		}
	}
	return b.String() + "." + suffix
}

// PathOf is the path that the name of a mount, a swap area or a device stands for, without its
// type: what Name makes the same of.
func PathOf(name string) string {
	name = strings.TrimSuffix(name, Suffix(name))
	if name == "-" {
		return "/"
	}
	var b strings.Builder
	b.WriteByte('/')
	for i := 0; i < len(name); i++ {
		switch {
		case name[i] == '-':
			b.WriteByte('/')
		case strings.HasPrefix(name[i:], `\x`) && i+4 <= len(name):
			if n, err := strconv.ParseUint(name[i+2:i+4], 16, 8); err == nil {
				b.WriteByte(byte(n))
				i += 3
				continue
			}
			fallthrough
		default:
			b.WriteByte(name[i])
		}
	}
	return b.String()
}
