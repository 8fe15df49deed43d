// Package fstab reads and edits the table of file systems without losing a
// byte: comments, blank lines, tabs, odd spacing and a missing last newline
// stay as they are, and an edit changes only the line that it names.
//
// Source: fstab(5) and systemd-fstab-generator(8).
package fstab

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
)

// Path is where the table lies.
const Path = "/etc/fstab"

// Swap is the type of a line that names a swap area.
const Swap = "swap"

// Entry is one line's meaning, with escapes resolved.
type Entry struct {
	Spec    string // "UUID=…", "/dev/sdb1", "tmpfs"
	Dir     string // mount point, or "none" for swap
	Type    string
	Options []string
	Dump    int // fifth field
	Pass    int // sixth field
}

// Line is one line as it stands. Entry is nil for comments and blank lines,
// and for lines that cannot be read, which have an error.
type Line struct {
	Number int // from 1
	Raw    string
	Entry  *Entry
	Err    error
}

// File is the table.
type File struct{ Lines []Line }

// Errors of lines and edits.
var (
	ErrFields  = errors.New("a line has four to six fields: device, mount point, type, options, dump, pass")
	ErrNumber  = errors.New("the fifth and sixth field are small numbers")
	ErrPoint   = errors.New("a mount point is an absolute path or none")
	ErrNoEntry = errors.New("no such entry")
)

// Parse reads the table. Every byte is kept: Bytes gives them back.
func Parse(data []byte) *File {
	f := &File{}
	text := string(data)
	for n := 1; text != ""; n++ {
		end := strings.IndexByte(text, '\n') + 1
		if end == 0 {
			end = len(text)
		}
		f.Lines = append(f.Lines, parseLine(n, text[:end]))
		text = text[end:]
	}
	return f
}

// A line that cannot be read is kept with its error: it is no entry, and no edit touches
// it.
func parseLine(number int, raw string) Line {
	l := Line{Number: number, Raw: raw}
	words := strings.FieldsFunc(raw, func(r rune) bool { return r == ' ' || r == '\t' || r == '\n' })
	if len(words) == 0 || strings.HasPrefix(words[0], "#") {
		return l
	}
	if len(words) < 4 || len(words) > 6 {
		l.Err = fmt.Errorf("%w; this one has %d", ErrFields, len(words))
		return l
	}
	e := &Entry{Spec: Unescape(words[0]), Dir: Unescape(words[1]), Type: Unescape(words[2]), Options: strings.Split(Unescape(words[3]), ",")}
	for i, into := range []*int{&e.Dump, &e.Pass} {
		if len(words) <= 4+i {
			continue
		}
		n, err := strconv.ParseUint(words[4+i], 10, 8)
		if err != nil {
			l.Err = fmt.Errorf("%w; this is %q", ErrNumber, words[4+i])
			return l
		}
		*into = int(n)
	}
	if e.Dir != "none" && e.Dir != Swap && !strings.HasPrefix(e.Dir, "/") {
		l.Err = fmt.Errorf("%w; this is %q", ErrPoint, e.Dir)
		return l
	}
	l.Entry = e
	return l
}

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

// Add appends an entry on a line of its own, behind a newline where the last
// line lacks one, and gives the new line.
//
// The line is read again before it is taken: what would come back as something else, such
// as a comment, is refused.
func (f *File) Add(e Entry) (Line, error) {
	if n := len(f.Lines); n > 0 && !strings.HasSuffix(f.Lines[n-1].Raw, "\n") {
		f.Lines[n-1].Raw += "\n"
	}
	line := parseLine(len(f.Lines)+1, e.String()+"\n")
	if line.Err != nil {
		return Line{}, line.Err
	}
	if line.Entry == nil {
		return Line{}, fmt.Errorf("%w; %q would be read as a comment", ErrFields, line.Raw)
	}
	f.Lines = append(f.Lines, line)
	return line, nil
}

// Remove takes out the numbered line, which must be an entry, and leaves every
// other byte.
func (f *File) Remove(number int) (Line, error) {
	return f.cut(number, func(l Line) bool { return l.Entry != nil })
}

// Cut is Remove for a line that cannot be read as well; comments and blank lines stay.
func (f *File) Cut(number int) (Line, error) {
	return f.cut(number, func(l Line) bool { return l.Entry != nil || l.Err != nil })
}

func (f *File) cut(number int, may func(Line) bool) (Line, error) {
	for i, l := range f.Lines {
		if l.Number == number && may(l) {
			f.Lines = append(f.Lines[:i:i], f.Lines[i+1:]...)
			for k := i; k < len(f.Lines); k++ {
				f.Lines[k].Number--
			}
			return l, nil
		}
	}
	return Line{}, fmt.Errorf("line %d: %w", number, ErrNoEntry)
}

// Disabled begins a line that was an entry and is a comment now.
const Disabled = "# disabled: "

// Disable makes a comment of the numbered line, which must be an entry.
func (f *File) Disable(number int) (Line, error) {
	for i, l := range f.Lines {
		if l.Number == number && l.Entry != nil {
			f.Lines[i] = parseLine(number, Disabled+l.Raw)
			return l, nil
		}
	}
	return Line{}, fmt.Errorf("line %d: %w", number, ErrNoEntry)
}

// SetSpec gives the numbered line another device; every other byte of it stays.
func (f *File) SetSpec(number int, spec string) error {
	for i, l := range f.Lines {
		if l.Number != number || l.Entry == nil {
			continue
		}
		start, end := firstField(l.Raw)
		line := parseLine(number, l.Raw[:start]+escape(spec)+l.Raw[end:])
		if line.Err != nil || line.Entry == nil || line.Entry.Spec != spec {
			return fmt.Errorf("%w; %q cannot stand in a line", ErrFields, spec)
		}
		f.Lines[i] = line
		return nil
	}
	return fmt.Errorf("line %d: %w", number, ErrNoEntry)
}

// String is the entry as a line without its newline, fields one space apart.
func (e Entry) String() string {
	options := strings.Join(e.Options, ",")
	if options == "" {
		options = "defaults"
	}
	return fmt.Sprintf("%s %s %s %s %d %d", escape(e.Spec), escape(e.Dir), escape(e.Type), escape(options), e.Dump, e.Pass)
}

// Has reports whether the option is set, as a word or with a value.
func (e Entry) Has(option string) bool {
	_, ok := e.Value(option)
	return ok
}

// Value is the value of the last option of that name; "" for a plain word.
func (e Entry) Value(option string) (value string, ok bool) {
	for _, o := range e.Options {
		if name, v, _ := strings.Cut(o, "="); name == option {
			value, ok = v, true
		}
	}
	return value, ok
}

// IsSwap reports whether the entry is a swap area.
func (e Entry) IsSwap() bool { return e.Type == Swap }

// Unescape resolves \ooo, the octal escapes that the kernel's lists use too;
// anything else stays.
func Unescape(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '\\' && i+3 < len(s) {
			if n, err := strconv.ParseUint(s[i+1:i+4], 8, 8); err == nil {
				b.WriteByte(byte(n))
				i += 3
				continue
			}
		}
		b.WriteByte(s[i])
	}
	return b.String()
}

// escape writes what would end or change a field as an octal escape: blanks,
// line ends, backslashes, and a hash that would begin a comment.
//
// Only what must be: a line is for people too.
func escape(s string) string {
	var b strings.Builder
	for i := range len(s) {
		switch c := s[i]; {
		case c == ' ' || c == '\t' || c == '\n' || c == '\r' || c == '\\' || c == '#' && i == 0:
			fmt.Fprintf(&b, "\\%03o", c)
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}
