// Package bootcfg finds what names a device in the text files of boot loaders,
// of the kernel's command line, of encrypted devices and of resuming, and
// replaces it without changing another byte.
//
// Such files have many grammars; what names a device looks the same in all of
// them: NAME=SPEC on a command line (root=UUID=…, resume=/dev/…), a SPEC as a
// word of its own, or the bare UUID that a search for a file system ends with. A
// line keeps its bytes, and a mention says which of them are the device's name.
//
// Sources: Documentation/admin-guide/kernel-parameters.txt; the Boot Loader
// Specification; crypttab(5); kernel-command-line(7); dracut.cmdline(7).
package bootcfg

import (
	"bytes"
	"regexp"
	"strings"

	"github.com/google/uuid"
)

// Mention is a place that names a device.
type Mention struct {
	Line       int    // from 1
	Text       string // the line, without its end
	Spec       string // "UUID=…", "/dev/sda1"
	By         string // what it is for: "root", "resume"; empty for a word of its own
	start, end int    // bytes of the file that hold the name
	bare       bool   // they hold the identifier alone
}

// words that name a device on a command line: NAME=SPEC, or NAME=UUID.
func names(word string) (device, id bool) {
	switch word {
	case "root", "resume", "mount.usr", "cryptdevice", "RESUME":
		return true, false
	case "rd.luks.uuid", "luks.uuid", "rd.luks.name", "luks.name":
		return false, true
	}
	return false, false
}

// Scan finds every mention in the file. Comments are left out.
func Scan(data []byte) (out []Mention) {
	at := 0
	for number := 1; at < len(data); number++ {
		end := at + bytes.IndexByte(data[at:], '\n') + 1
		if end == at {
			end = len(data)
		}
		line := string(data[at:end])
		if text := strings.TrimSpace(line); text != "" && text[0] != '#' && text[0] != ';' {
			for _, m := range scanLine(line) {
				m.Line, m.Text = number, text
				m.start, m.end = m.start+at, m.end+at
				out = append(out, m)
			}
		}
		at = end
	}
	return out
}

// word is a run without blanks, quotes or brackets.
var word = regexp.MustCompile("[^\\s\"'`(){};,|&]+")

// scanLine gives mentions by their place in the line.
func scanLine(line string) (out []Mention) {
	search := strings.Contains(line, "--fs-uuid")
	for _, span := range word.FindAllStringIndex(line, -1) {
		if m, ok := mention(line[span[0]:span[1]], search); ok {
			m.start, m.end = m.start+span[0], m.end+span[0]
			out = append(out, m)
		}
	}
	return out
}

func mention(w string, search bool) (m Mention, ok bool) {
	for at := 0; ; { // GRUB_CMDLINE_LINUX=root=UUID=…: whatever stands before the last name
		name, rest, is := strings.Cut(w[at:], "=")
		device, id := names(name)
		value, _, _ := strings.Cut(rest, ":") // a map's name, or more options, may follow
		start := at + len(name) + 1
		switch {
		case isSpec(w[at:]):
			spec := w[at:]
			if m.By == "cryptdevice" {
				spec, _, _ = strings.Cut(spec, ":")
			}
			return Mention{Spec: spec, By: m.By, start: at, end: at + len(spec)}, true
		case is && device && isSpec(rest):
			m.By = name
		case is && id:
			value, _, _ = strings.Cut(strings.TrimPrefix(value, "luks-"), "=")
			start = at + strings.Index(w[at:], value)
			if _, err := uuid.Parse(value); err == nil {
				return Mention{Spec: "UUID=" + value, By: name, start: start, end: start + len(value), bare: true}, true
			}
			return m, false
		case !is && search && isIdentifier(w[at:]):
			return Mention{Spec: "UUID=" + w[at:], By: "search", start: at, end: len(w), bare: true}, true
		case !is:
			return m, false
		}
		at = start
	}
}

// isIdentifier reports whether the word has the form of a file system's UUID: of
// 128 bits, or that of FAT and NTFS.
func isIdentifier(w string) bool {
	if _, err := uuid.Parse(w); err == nil && len(w) == 36 {
		return true
	}
	return regexp.MustCompile(`^([0-9A-F]{4}-[0-9A-F]{4}|[0-9A-F]{16})$`).MatchString(w)
}

// isSpec reports whether the word names a device as fstab would.
func isSpec(w string) bool {
	tag, value, is := strings.Cut(w, "=")
	if is && value != "" && !strings.ContainsAny(value, "$<") {
		switch tag {
		case "UUID", "LABEL", "PARTUUID", "PARTLABEL":
			return true
		}
	}
	return strings.HasPrefix(w, "/dev/") && len(w) > len("/dev/") && !strings.ContainsAny(w, "$*<")
}

// Replace gives the file with another name in each of the places, which Scan
// found in it.
func Replace(data []byte, places []Mention, spec string) []byte {
	var b bytes.Buffer
	at := 0
	for _, m := range places {
		b.Write(data[at:m.start])
		if _, value, ok := strings.Cut(spec, "="); ok && m.bare {
			b.WriteString(value)
		} else {
			b.WriteString(spec)
		}
		at = m.end
	}
	b.Write(data[at:])
	return b.Bytes()
}

// Fits reports whether the name can stand in such a file: without blanks, quotes
// and whatever else ends a word.
func Fits(spec string) bool { return word.FindString(spec) == spec && spec != "" }
