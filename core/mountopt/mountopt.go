// Package mountopt is what is known of mount options: one row for each, declared beside its
// kind, with its argument, where it goes, and what it needs. fstab, mount, the bench's
// kernel, the findings and the rehearsal all go by these rows.
//
// An option goes to one of several places: some are flags of the superblock, some of the
// mount alone, some are for systemd and never reach the kernel, and the rest is the kind's.
// The kernel refuses a whole mount for one that its kind does not know.
//
// Source: mount(2), systemd.mount(5), and Linux's own tables: fs/fs_context.c, and those of
// each kind, which its rows name. A test puts every row before two kernels.
package mountopt

import (
	"slices"
	"strings"
)

// To is where an option goes.
type To string

// The places.
const (
	Superblock  To = "superblock"  // a flag of the file system, the same at every place where it is mounted
	Attribute   To = "mount"       // of this mount alone
	Propagation To = "propagation" // what becomes of mounts below it in other namespaces
	Own         To = "kind"        // the kind's own
	Program     To = "program"     // whoever mounts
	Boot        To = "boot"        // systemd, or whoever reads fstab; the kernel never sees it
	Rights      To = "rights"      // who may mount it; it implies others
)

// Value is the form of an option's value.
type Value string

// The forms.
const (
	Number Value = "number"
	Signed Value = "signed number"
	Octal  Value = "octal number"
	Word   Value = "word" // one of Words
	Size   Value = "size" // a number, perhaps with k, m or g
	Text   Value = "text"
	Device Value = "device"
	Time   Value = "time"
	Power  Value = "power of two"
	Even   Value = "even number from 4"
)

// Need is what must be so for an option to be taken.
type Need string

// The needs.
const (
	Journal  Need = "a journal"
	ReadOnly Need = "ro"
	Older    Need = "an older format"
	Built    Need = "a kernel built for it" // of which the running one alone can tell
	Memory   Need = "persistent memory"     // of which nobody here can tell
)

// Option is one row. A word that can stand alone and take a value as well has both.
type Option struct {
	Name    string
	Alone   bool  // it can stand without a value
	Value   Value // the form of its value; empty where it takes none
	Words   []string
	To      To
	Types   []string // as what the kernel mounts; nil for all
	Not     string   // its opposite, which excludes it
	Needs   Need
	Default bool     // it is so without it
	Firm    bool     // it is decided when something is first mounted: a remount with another value is refused
	FirmAt  string   // what it is then without a word
	Gone    bool     // taken, and without effect: the kernel has dropped it
	Since   string   // the Linux that has it first; empty for every one that is maintained
	Implies []string // what it stands for as well, unless a later option says otherwise
	Shown   []string // values that the kernel lists where nobody asked for any; "" for the word alone
	Says    string   // one clause
}

// Flag is a row of a word that stands alone.
func Flag(name, says string) Option { return Option{Name: name, Alone: true, To: Own, Says: says} }

// With is a row of a word with a value.
func With(name string, v Value, says string) Option {
	return Option{Name: name, Value: v, To: Own, Says: says}
}

// OneOf is a row of a word that takes one of a few values.
func OneOf(name, says string, words ...string) Option {
	return Option{Name: name, Value: Word, Words: words, To: Own, Says: says}
}

// Or lets the row's word stand alone too.
func (o Option) Or() Option { o.Alone = true; return o }

// Against names the opposite.
func (o Option) Against(not string) Option { o.Not = not; return o }

// Usual says that it is so without the option.
func (o Option) Usual() Option { o.Default = true; return o }

// If names what the option needs.
func (o Option) If(n Need) Option { o.Needs = n; return o }

// From names the first Linux that has it.
func (o Option) From(linux string) Option { o.Since = linux; return o }

// ShownAs names the values that the kernel lists of it where nobody asked for any.
func (o Option) ShownAs(values ...string) Option { o.Shown = values; return o }

// AtFirst says that the option is decided at the first mount, and what it is without a word.
func (o Option) AtFirst(usual string) Option { o.Firm, o.FirmAt = true, usual; return o }

// Only limits the row to types of the kind.
func (o Option) Only(types ...string) Option { o.Types = types; return o }

// Dropped lists rows that are taken and mean nothing any more.
func Dropped(names ...string) (rows []Option) {
	for _, n := range names {
		rows = append(rows, Option{Name: n, Alone: true, To: Own, Gone: true, Says: "taken, without effect"})
	}
	return rows
}

// Takes says how the option is written.
func (o Option) Takes() string {
	var forms []string
	if o.Alone {
		forms = append(forms, o.Name)
	}
	switch {
	case o.Value == Word:
		forms = append(forms, o.Name+"="+strings.Join(o.Words, "|"))
	case o.Value != "":
		forms = append(forms, o.Name+"="+strings.ToUpper(string(o.Value)))
	}
	return strings.Join(forms, ", ")
}

// Name is the word of an option without its value.
func Name(option string) string {
	name, _, _ := strings.Cut(option, "=")
	return name
}

// Table is the rows that a mount of one type can have.
type Table struct {
	Type string
	// Own is whether the kind's rows are known: of another kind's options nobody can say
	// whether the kernel takes them.
	Own  bool
	Rows []Option
}

// For puts the rows of a kind together with those of every mount.
func For(typ string, own []Option) Table {
	t := Table{Type: typ, Own: len(own) > 0}
	for _, o := range own {
		if o.Types == nil || slices.Contains(o.Types, typ) {
			t.Rows = append(t.Rows, o)
		}
	}
	names := map[string]bool{}
	for _, o := range t.Rows {
		names[o.Name] = true
	}
	for _, o := range Common() {
		if !names[o.Name] {
			t.Rows = append(t.Rows, o)
		}
	}
	return t
}

// Unasked reports whether the kernel lists the option by itself: nobody need have asked for it,
// and a mount without it is the same.
func (t Table) Unasked(option string) bool {
	_, value, _ := strings.Cut(option, "=")
	row, ok := t.Find(option)
	return ok && (row.Default || slices.Contains(row.Shown, value))
}

// Find gives the row of an option.
func (t Table) Find(option string) (Option, bool) {
	name := Name(option)
	for _, o := range t.Rows {
		if o.Name == name {
			return o, true
		}
	}
	// Kept in the line, and for nobody here: what begins with a small letter is remembered by
	// the mount program, with a capital one taken by it, and neither reaches the kernel.
	if strings.HasPrefix(name, "x-") || strings.HasPrefix(name, "X-") || name == "comment" {
		return Option{Name: name, Alone: true, Value: Text, To: Boot, Says: "kept in the line, without effect"}, true
	}
	return Option{}, false
}
