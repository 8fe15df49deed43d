package fstab

import (
	"fmt"
	"strings"
)

// Disabled begins a line that was an entry and is a comment now.
const Disabled = "# disabled: "

// Disable makes a comment of the numbered line, which must be an entry.
func (f *File) Disable(number int) (Line, error) {
	l, ok := f.Line(number)
	if !ok || l.Entry == nil {
		return Line{}, fmt.Errorf("line %d: %w", number, ErrNoEntry)
	}
	f.replace(number, Disabled+l.Raw)
	return l, nil
}

// Was gives the line that a comment holds: one that Disable made, or a line that somebody
// made a comment of, which is taken for one where it begins as lines do and names a kind
// that is known.
func (l Line) Was(known func(kind string) bool) (was Line, ok bool) {
	if !l.Comment() || l.Lost {
		return Line{}, false
	}
	raw, ours := strings.CutPrefix(l.Raw, Disabled)
	if !ours {
		raw = strings.TrimLeft(strings.TrimLeft(l.Raw, blanks)[1:], blanks)
	}
	was, takes := parseLine(l.Number, raw)
	if e := was.Entry; e == nil || takes || !ours && !likeLine(was, known) {
		return Line{}, false
	}
	return was, true
}

// likeLine tells a line that was made a comment from a sentence.
func likeLine(l Line, known func(kind string) bool) bool {
	e := l.Entry
	if len(l.Fields) < 3 || !known(e.Type) || !strings.HasPrefix(e.Dir, "/") && !(e.IsSwap() && (e.Dir == "none" || e.Dir == Swap)) {
		return false
	}
	return strings.HasPrefix(e.Spec, "/") || Node(e.Spec) != e.Spec || e.Spec == e.Type || e.Spec == "none" || strings.Contains(e.Spec, ":/")
}

// Enable makes an entry again of a numbered comment that holds one. Of a line that Disable
// made, this gives back the bytes that it had.
func (f *File) Enable(number int, known func(kind string) bool) (Line, error) {
	l, _ := f.Line(number)
	was, ok := l.Was(known)
	if !ok {
		return Line{}, fmt.Errorf("line %d: %w", number, ErrComment)
	}
	f.replace(number, was.Raw)
	return f.Lines[number-1], nil
}
