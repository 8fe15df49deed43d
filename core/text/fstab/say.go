package fstab

import (
	"fmt"
	"slices"
	"strings"
)

// String is the entry as a line without its newline, fields one space apart.
func (e Entry) String() string {
	options := strings.Join(e.Options, ",")
	if options == "" {
		options = "defaults"
	}
	return fmt.Sprintf("%s %s %s %s %d %d", escape(e.Spec), escape(e.Dir), escape(e.Type), escape(options), e.Dump, e.Pass)
}

// escape writes what would end a field as one of the escapes that are read. Only what must
// be: a line is for people too.
func escape(s string) string {
	return strings.NewReplacer(" ", `\040`, "\t", `\011`, "\n", `\012`, `\`, `\134`).Replace(s)
}

// sayable refuses what no line can say, or what comes back as something else: an empty field,
// a hash where a comment would begin, a byte that ends or breaks a line for somebody.
func sayable(field int, s string) error {
	switch {
	case s == "":
		return fmt.Errorf("%w: an empty field", ErrUnsaid)
	case field == SpecField && s[0] == '#':
		return fmt.Errorf("%w: %q would begin a comment", ErrUnsaid, s)
	case field == DirField && strings.Contains(s, "\n"):
		return fmt.Errorf("%w: systemd makes a broken unit of the line break in %q", ErrUnsaid, s)
	}
	if at := strings.IndexFunc(s, func(r rune) bool { return (r < ' ' || r == 0x7f) && r != '\n' && r != '\t' }); at >= 0 {
		return fmt.Errorf("%w: nothing reads an escape for the byte %#02x of %q", ErrUnsaid, s[at], s)
	}
	return nil
}

// line gives the bytes of a new line, which must mean the entry when it is read again.
func (e Entry) line() (string, error) {
	for i, s := range []string{e.Spec, e.Dir, e.Type} {
		if err := sayable(i, s); err != nil {
			return "", err
		}
	}
	for _, o := range e.Options {
		if err := sayable(OptionsField, o); err != nil {
			return "", err
		}
	}
	raw := e.String() + "\n"
	l, takes := parseLine(1, raw)
	want := e
	if len(e.Options) == 0 {
		want.Options = []string{"defaults"}
	}
	if takes || l.Entry == nil || !l.Entry.same(want) || l.Unread() != "" {
		return "", fmt.Errorf("%w: %q is read as something else", ErrUnsaid, e.String())
	}
	return raw, nil
}

func (e Entry) same(o Entry) bool {
	return e.Spec == o.Spec && e.Dir == o.Dir && e.Type == o.Type && slices.Equal(e.Options, o.Options) && e.Dump == o.Dump && e.Pass == o.Pass
}
