package fstab

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// option is one option of a list as it is written.
type option struct{ start, end int } // bytes of the list

// written finds the options of a list with its escapes.
func written(list string) (out []option) {
	start := 0
	put := func(end int) {
		if end > start {
			out = append(out, option{start, end})
		}
	}
	for i := 0; i < len(list); {
		c, n := atom(list[i:])
		i += n
		switch {
		case c == '\\' && i < len(list):
			_, n = atom(list[i:])
			i += n
		case c == ',':
			put(i - n)
			start = i
		}
	}
	put(len(list))
	return out
}

// atom is the next byte that is read, and how many it is written with.
func atom(s string) (c byte, n int) {
	for _, esc := range []string{`\040`, `\011`, `\012`, `\134`, `\\`} {
		if strings.HasPrefix(s, esc) {
			return decode(esc)[0], len(esc)
		}
	}
	return s[0], 1
}

// AddOption sets an option of the numbered line: in the place of the last one of its name,
// else behind the others.
func (f *File) AddOption(number int, word string) error {
	if err := sayable(OptionsField, word); err != nil || strings.Contains(word, ",") {
		return errors.Join(err, ErrUnsaid)
	}
	is, _, _ := strings.Cut(word, "=")
	at := -1
	edit := func(list string) string {
		if all := written(list); at >= 0 {
			return list[:all[at].start] + escape(word) + list[all[at].end:]
		}
		if list == "" {
			return escape(word)
		}
		return list + "," + escape(word)
	}
	return f.options(number, edit, func(had []string) []string {
		for i, o := range had {
			if name(o, is) {
				at = i
			}
		}
		if at < 0 {
			return append(had, word)
		}
		had[at] = word
		return had
	})
}

// DropOption takes out every option of the name. A list that is empty then says defaults.
func (f *File) DropOption(number int, word string) error {
	drop := func(o string) bool { return name(o, word) }
	edit := func(list string) string {
		for _, o := range slices.Backward(written(list)) {
			switch {
			case !drop(decode(list[o.start:o.end])):
			case o.start > 0:
				list = list[:o.start-1] + list[o.end:]
			default:
				list = strings.TrimPrefix(list[o.end:], ",")
			}
		}
		if list == "" {
			return "defaults"
		}
		return list
	}
	return f.options(number, edit, func(had []string) []string {
		if had = slices.DeleteFunc(had, drop); len(had) == 0 {
			return []string{"defaults"}
		}
		return had
	})
}

// options edits the list of a line as it is written, and holds it against what is to become
// of the options as they are read.
func (f *File) options(number int, edit func(list string) string, want func(had []string) []string) error {
	l, ok := f.Line(number)
	if !ok || l.Entry == nil {
		return fmt.Errorf("line %d: %w", number, ErrNoEntry)
	}
	list := ""
	if len(l.Fields) > OptionsField {
		list = l.Fields[OptionsField].Text
	}
	had := l.Entry.Options
	wanted := want(slices.Clone(had))
	if slices.Equal(had, wanted) || len(had) == 0 && slices.Equal(wanted, []string{"defaults"}) {
		return nil
	}
	after := edit(list)
	if got := decode(after); !slices.Equal(Split(got), wanted) {
		return fmt.Errorf("%w: the options of line %d would be %q", ErrUnsaid, number, got)
	}
	return f.write(l, OptionsField, after, decode(after))
}
