// Package fstab reads and edits the table of file systems, in two readings of the same
// bytes.
//
// As written: lines with their fields, blanks, comments and line ends, each at its bytes.
// Nothing is lost, and an edit changes its own bytes only.
//
// As read: what the boot takes from them. systemd's generator has the C library read a
// line, which forgives much: two fields are enough, a seventh and what follows are not
// looked at, a number is what its first digits say. What it makes of a line then is a unit,
// or none (Read). A line that looks wrong is not one that is left out.
//
// Source: getmntent(3) and systemd-fstab-generator(8), held against both by a test.
package fstab

import (
	"slices"
	"strings"
)

// Path is where the table lies.
const Path = "/etc/fstab"

// Swap is the type of a line that names a swap area.
const Swap = "swap"

// Entry is one line as it is read: escapes resolved, what is missing empty.
type Entry struct {
	Spec    string // "UUID=…", "/dev/sdb1", "tmpfs"
	Dir     string // mount point, or "none" for swap
	Type    string
	Options []string
	Dump    int // fifth field
	Pass    int // sixth field; anything but 0 asks for a check
}

// Line is one line as it stands. Entry is nil for what the reader takes nothing from:
// comments, blank lines, and lines that Lost says are lost.
type Line struct {
	Number int    // from 1
	Raw    string // with its line end
	Fields []Field
	Entry  *Entry
	Lost   bool // a NUL byte in the line before takes this one along
}

// Field is one of a line's fields as it is written, with its escapes.
type Field struct {
	Text       string
	Start, End int // bytes of the line
}

// File is the table.
type File struct{ Lines []Line }

// Parse reads the table. Every byte is kept: Bytes gives them back.
func Parse(data []byte) *File {
	f := &File{}
	lost := false
	for raw := range strings.SplitAfterSeq(string(data), "\n") {
		if raw == "" {
			continue
		}
		l := Line{Number: len(f.Lines) + 1, Raw: raw, Lost: lost}
		if lost { // what is looked for is the end of this line
			lost = endHidden(raw)
		} else {
			l, lost = parseLine(l.Number, raw)
		}
		f.Lines = append(f.Lines, l)
	}
	return f
}

// parseLine reads one line, and tells whether it takes the next one along.
func parseLine(number int, raw string) (l Line, takesNext bool) {
	l = Line{Number: number, Raw: raw}
	text, takesNext := seen(raw)
	if head := strings.TrimLeft(text, blanks); head == "" || head[0] == '#' {
		return l, takesNext
	}
	l.Fields, l.Entry = fields(raw), entry(text)
	return l, takesNext
}

// Comment reports whether the line is one.
func (l Line) Comment() bool { return strings.HasPrefix(strings.TrimLeft(l.Raw, blanks), "#") }

// Text is the line without its end and the blanks around it.
func (l Line) Text() string { return strings.TrimSpace(l.Raw) }

// fields splits the line as written. There may be more than six, or fewer.
func fields(raw string) (out []Field) {
	text := strings.TrimSuffix(raw, "\n")
	for at := 0; at < len(text); {
		rest := text[at:]
		start := at + len(rest) - len(strings.TrimLeft(rest, blanks))
		if start == len(text) {
			break
		}
		end := len(text)
		if n := strings.IndexAny(text[start:], blanks); n >= 0 {
			end = start + n
		}
		out = append(out, Field{text[start:end], start, end})
		at = end
	}
	return out
}

// Column is where a field stands in its line, from 1: counted in bytes, and in cells of a
// terminal, which counts a tab up to the next eighth column and a letter as one.
func (l Line) Column(field int) (inBytes, inCells int) {
	if field >= len(l.Fields) {
		return 0, 0
	}
	const tab = 8
	cells := 0
	for _, r := range l.Raw[:l.Fields[field].Start] {
		if cells++; r == '\t' {
			cells += (tab - cells%tab) % tab
		}
	}
	return l.Fields[field].Start + 1, cells + 1
}

// Clone is the table for whoever changes it.
func (f *File) Clone() *File { return &File{slices.Clone(f.Lines)} }

// Bytes gives the table as it is to be stored.
func (f *File) Bytes() []byte {
	var b strings.Builder
	for _, l := range f.Lines {
		b.WriteString(l.Raw)
	}
	return []byte(b.String())
}

// Entries lists the lines that have a meaning.
func (f *File) Entries() []Line {
	var out []Line
	for _, l := range f.Lines {
		if l.Entry != nil {
			out = append(out, l)
		}
	}
	return out
}

// Line finds a line by its number.
func (f *File) Line(number int) (Line, bool) {
	if number < 1 || number > len(f.Lines) {
		return Line{}, false
	}
	return f.Lines[number-1], true
}

// IsSwap reports whether the entry is a swap area.
func (e Entry) IsSwap() bool { return e.Type == Swap }
