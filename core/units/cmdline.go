package units

import (
	"slices"
	"strings"
)

// Word is one of the kernel's command line.
type Word struct {
	Name, Value string
	Valued      bool // it has an equals sign
}

// Line is the kernel's command line.
type Line []Word

// Words splits the kernel's command line: at blanks, but not within quotes.
//
// Source: kernel-command-line(7).
func Words(text string) (out Line) {
	var b strings.Builder
	quoted, some := byte(0), false
	flush := func() {
		if some {
			name, value, valued := strings.Cut(b.String(), "=")
			out = append(out, Word{name, value, valued})
		}
		b.Reset()
		some = false
	}
	for i := range len(text) {
		switch c := text[i]; {
		case quoted != 0 && c == quoted:
			quoted = 0
		case quoted == 0 && (c == '"' || c == '\''):
			quoted, some = c, true
		case quoted == 0 && strings.IndexByte(" \t\n\r", c) >= 0:
			flush()
		default:
			b.WriteByte(c)
			some = true
		}
	}
	flush()
	return out
}

// Last is the value of the last word of the name, "" without one. Dashes and underscores are
// the same.
func (l Line) Last(name string) string {
	for _, w := range slices.Backward(l) {
		if w.is(name) {
			return w.Value
		}
	}
	return ""
}

// On reports what the last word of the name says that has a sense: alone it is a yes.
func (l Line) On(name string, otherwise bool) bool {
	on := otherwise
	for _, w := range l {
		if !w.is(name) {
			continue
		}
		if said, is := yes(w.Value); is {
			on = said
		} else if w.Value == "" {
			on = on || !w.Valued
		}
	}
	return on
}

// Has reports whether there is a word of the name.
func (l Line) Has(name string) bool {
	return slices.ContainsFunc(l, func(w Word) bool { return w.is(name) })
}

// Values are those of all words of the name.
func (l Line) Values(name string) (out []string) {
	for _, w := range l {
		if w.is(name) && w.Valued {
			out = append(out, w.Value)
		}
	}
	return out
}

func (w Word) is(name string) bool {
	same := strings.NewReplacer("-", "_")
	return same.Replace(w.Name) == same.Replace(name)
}
