// Package bootcfg finds what names a device in the text files of boot loaders,
// of the kernel's command line and of resuming, and
// replaces it without changing another byte.
//
// Such files have many grammars; what names a device looks the same in all of
// them: NAME=SPEC on a command line (root=UUID=…, resume=/dev/…), a SPEC as a
// word of its own, or the bare UUID that a search for a file system ends with. A
// line keeps its bytes, and a mention says which of them are the device's name.
//
// Sources: Documentation/admin-guide/kernel-parameters.txt; the Boot Loader
// Specification; kernel-command-line(7); dracut.cmdline(7).
package bootcfg

import (
	"bytes"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"fundus/core/text"
)

// Syntax is that of all such files.
type Syntax struct{}

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

// Mentions implements text.Syntax. Comments are left out.
func (Syntax) Mentions(data []byte) (out []text.Mention) {
	at := 0
	for number := 1; at < len(data); number++ {
		end := at + bytes.IndexByte(data[at:], '\n') + 1
		if end == at {
			end = len(data)
		}
		line := string(data[at:end])
		if words := strings.TrimSpace(line); words != "" && words[0] != '#' && words[0] != ';' {
			for _, m := range scanLine(line) {
				m.Line, m.Text = number, words
				m.Start, m.End = m.Start+at, m.End+at
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
func scanLine(line string) (out []text.Mention) {
	search := strings.Contains(line, "--fs-uuid")
	for _, span := range word.FindAllStringIndex(line, -1) {
		if m, ok := mention(line[span[0]:span[1]], search); ok {
			m.Start, m.End = m.Start+span[0], m.End+span[0]
			out = append(out, m)
		}
	}
	return out
}

func mention(w string, search bool) (m text.Mention, ok bool) {
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
			return text.Mention{Spec: spec, By: m.By, Start: at, End: at + len(spec)}, true
		case is && device && isSpec(rest):
			m.By = name
		case is && id:
			value, _, _ = strings.Cut(strings.TrimPrefix(value, "luks-"), "=")
			start = at + strings.Index(w[at:], value)
			if _, err := uuid.Parse(value); err == nil {
				return text.Mention{Spec: "UUID=" + value, By: name, Start: start, End: start + len(value), Bare: true}, true
			}
			return m, false
		case !is && search && isIdentifier(w[at:]):
			return text.Mention{Spec: "UUID=" + w[at:], By: "search", Start: at, End: len(w), Bare: true}, true
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

// isSpec reports whether the word names a device as fstab would, and holds nothing that a
// shell or a generator fills in.
func isSpec(w string) bool {
	_, value, is := strings.Cut(w, "=")
	if strings.HasPrefix(w, "/dev/") {
		return len(w) > len("/dev/") && !strings.ContainsAny(w, "$*<")
	}
	return text.IsDevice(w) && is && value != "" && !strings.ContainsAny(value, "$<")
}

// Say implements text.Syntax: a name without blanks, quotes and whatever else ends a word.
func (Syntax) Say(data []byte, m text.Mention, spec string) ([]byte, error) {
	if spec == "" || word.FindString(spec) != spec {
		return nil, text.ErrUnsayable
	}
	if _, value, ok := strings.Cut(spec, "="); ok && m.Bare {
		spec = value
	}
	return text.Put(data, m, spec), nil
}

// Forget gives the file without the setting from what the kernel resumes, which the mention
// names, or false where it is another one. A word of a command line goes with the offset
// beside it; what is a line of its own says none, since without it a device is guessed.
func Forget(data []byte, m text.Mention) ([]byte, bool) {
	switch m.By {
	case "RESUME":
		return text.Put(data, m, "none"), true
	case "resume":
	default:
		return data, false
	}
	from := bytes.LastIndexByte(data[:m.Start], '\n') + 1
	to := len(data)
	if end := bytes.IndexByte(data[m.End:], '\n'); end >= 0 {
		to = m.End + end
	}
	gone := [][]int{{m.Start - len("resume=") - from, m.End - from}}
	for _, span := range word.FindAllIndex(data[from:to], -1) {
		if at := bytes.Index(data[from+span[0]:from+span[1]], []byte("resume_offset=")); at >= 0 {
			gone = append(gone, []int{span[0] + at, span[1]})
		}
	}
	slices.SortFunc(gone, func(a, b []int) int { return b[0] - a[0] })
	line := slices.Clone(data[from:to])
	for _, span := range gone {
		switch { // with one of the blanks around it
		case span[0] > 0 && line[span[0]-1] == ' ':
			span[0]--
		case span[1] < len(line) && line[span[1]] == ' ':
			span[1]++
		}
		line = slices.Delete(line, span[0], span[1])
	}
	return slices.Concat(data[:from], line, data[to:]), true
}

// Offset is where a file to swap on begins that the kernel is to resume from, in pages of the
// device.
type Offset struct {
	Line  int
	Pages int64
	Spec  string // the device, where the same line names it
}

// Offsets lists them. The kernel takes resume_offset beside resume.
func Offsets(data []byte) (out []Offset) {
	number := 0
	for line := range strings.Lines(string(data)) {
		number++
		if t := strings.TrimSpace(line); t == "" || t[0] == '#' || t[0] == ';' {
			continue
		}
		o := Offset{Line: number}
		found := false
		for _, m := range scanLine(line) {
			if strings.EqualFold(m.By, "resume") {
				o.Spec = m.Spec
			}
		}
		for _, w := range word.FindAllString(line, -1) {
			at := strings.LastIndex(w, "resume_offset=")
			if at < 0 {
				continue
			}
			if pages, err := strconv.ParseInt(w[at+len("resume_offset="):], 10, 64); err == nil {
				o.Pages, found = pages, true
			}
		}
		if found {
			out = append(out, o)
		}
	}
	return out
}
