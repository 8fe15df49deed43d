package fstab

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Errors of edits.
var (
	ErrNoEntry  = errors.New("no such entry")
	ErrUnsaid   = errors.New("it cannot be written in the table")
	ErrComment  = errors.New("it holds no line that was one of the table")
	ErrTwoPlace = errors.New("two lines have the same place, and their order decides")
)

// The fields of a line, in their order.
const (
	SpecField = iota
	DirField
	TypeField
	OptionsField
	DumpField
	PassField
)

// Add puts an entry on a line of its own: before the first entry that lies below its mount
// point, since parents come first, else at the end. Before is the number of a line that it
// is to stand before instead; 0 for none.
func (f *File) Add(e Entry, before int) (Line, error) {
	raw, err := e.line()
	if err != nil {
		return Line{}, err
	}
	at := len(f.Lines)
	if before > 0 {
		if at = before - 1; at >= len(f.Lines) {
			return Line{}, fmt.Errorf("line %d: %w", before, ErrNoEntry)
		}
	} else if i := slices.IndexFunc(f.Lines, func(l Line) bool { return l.Entry != nil && !e.IsSwap() && below(l.Entry.Dir, e.Dir) }); i >= 0 {
		at = f.block(i)
	}
	return f.insert(at, raw)
}

// Say puts a comment of one line above the numbered line, and gives that where it is then.
func (f *File) Say(number int, comment string) (Line, error) {
	if strings.ContainsAny(comment, "\n\x00") {
		return Line{}, fmt.Errorf("%w: a comment has one line", ErrUnsaid)
	}
	lines := slices.Insert(slices.Clone(f.Lines), number-1, Line{Raw: "# " + comment + "\n"})
	*f = *Parse((&File{lines}).Bytes())
	return f.Lines[number], nil
}

// insert puts the bytes of a line at a place. The line is read in its place before it is
// taken: the one before it may take it along.
func (f *File) insert(at int, raw string) (Line, error) {
	lines := slices.Clone(f.Lines)
	if at == len(lines) && at > 0 && !strings.HasSuffix(lines[at-1].Raw, "\n") {
		lines[at-1].Raw += "\n"
	}
	lines = slices.Insert(lines, at, Line{Raw: raw})
	after := Parse((&File{lines}).Bytes())
	if after.Lines[at].Entry == nil {
		return Line{}, fmt.Errorf("%w: the line before it takes it along", ErrUnsaid)
	}
	*f = *after
	return f.Lines[at], nil
}

// block is the first of the comment lines that stand directly above the line.
func (f *File) block(at int) int {
	for at > 0 && f.Lines[at-1].Comment() {
		at--
	}
	return at
}

// below reports whether a mount point lies under another.
func below(dir, parent string) bool {
	dir, parent = where(dir, nil), where(parent, nil)
	return dir != parent && strings.HasPrefix(dir, strings.TrimSuffix(parent, "/")+"/")
}

// Remove takes out the numbered line, which must be an entry or one that is lost, and leaves
// every other byte.
func (f *File) Remove(number int) (Line, error) {
	l, ok := f.Line(number)
	if !ok || l.Entry == nil && !l.Lost {
		return Line{}, fmt.Errorf("line %d: %w", number, ErrNoEntry)
	}
	f.Lines = slices.Delete(slices.Clone(f.Lines), number-1, number)
	*f = *Parse(f.Bytes())
	return l, nil
}

// Set gives a field of the numbered line other words; every other byte of it stays. Fields
// that are missing before it are written as they are read.
func (f *File) Set(number, field int, words string) error {
	l, ok := f.Line(number)
	if !ok || l.Entry == nil {
		return fmt.Errorf("line %d: %w", number, ErrNoEntry)
	}
	if err := sayable(field, words); err != nil {
		return err
	}
	return f.write(l, field, escape(words), words)
}

// write puts the bytes of a field, and reads the line again: it must mean what was asked
// for, and the same else.
func (f *File) write(l Line, field int, written, words string) error {
	raw := l.Raw
	if field < len(l.Fields) {
		raw = raw[:l.Fields[field].Start] + written + raw[l.Fields[field].End:]
	} else {
		at := l.Fields[len(l.Fields)-1].End
		more := []string{"", "", "auto", "defaults", "0", "0"}[len(l.Fields):field]
		raw = raw[:at] + " " + strings.Join(append(more, written), " ") + raw[at:]
	}
	want := *l.Entry
	switch field {
	case SpecField:
		want.Spec = words
	case DirField:
		want.Dir = words
	case TypeField:
		want.Type = words
	case OptionsField:
		want.Options = Split(words)
	case DumpField:
		want.Dump, _, _ = number(words)
	case PassField:
		want.Pass, _, _ = number(words)
	}
	got, takes := parseLine(l.Number, raw)
	_, took := parseLine(l.Number, l.Raw)
	if got.Entry == nil || takes != took || !got.Entry.means(want, len(l.Fields)) {
		return fmt.Errorf("%w: line %d would be read as something else", ErrUnsaid, l.Number)
	}
	f.replace(l.Number, raw)
	return nil
}

// means is same, but for fields that were missing and are written out now.
func (e Entry) means(o Entry, had int) bool {
	if had <= TypeField && o.Type == "" {
		o.Type = e.Type
	}
	if had <= OptionsField && len(o.Options) == 0 {
		o.Options = e.Options
	}
	return e.same(o)
}

func (f *File) replace(number int, raw string) {
	lines := slices.Clone(f.Lines)
	lines[number-1].Raw = raw
	*f = *Parse((&File{lines}).Bytes())
}
