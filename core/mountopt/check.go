package mountopt

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"fundus/core/near"
)

// Trouble is what is wrong with an option.
type Trouble string

// The troubles. The first four have the kernel refuse the mount.
const (
	Unknown   Trouble = "unknown"   // no row of the kind
	BadValue  Trouble = "bad value" // or a value where there is none
	Missing   Trouble = "needs"     // what it needs is not so
	Untold    Trouble = "untold"    // a kind whose options are not known, or a need of which nobody can tell
	Overruled Trouble = "overruled" // a later one says the opposite
	NoEffect  Trouble = "no effect" // the kernel takes and drops it
	Needless  Trouble = "needless"  // it is so already
)

// Refused reports whether the kernel refuses the mount for it.
func (t Trouble) Refused() bool { return t == Unknown || t == BadValue || t == Missing }

// Fault is one option with its trouble.
type Fault struct {
	Option  string
	Trouble Trouble
	Says    string // in words
	Instead string // the option that was probably meant
}

// Has tells what the file system itself has that options need.
type Has func(n Need) bool

// Check holds the options of a mount against the rows. A nil has does not ask for needs.
func (t Table) Check(options []string, has Has) (out []Fault) {
	for i, o := range options {
		if f := t.one(o, options, has); f.Trouble != "" {
			out = append(out, f)
			continue
		}
		row, _ := t.Find(o)
		later := options[i+1:]
		switch {
		case slices.ContainsFunc(later, func(l string) bool { return Name(l) == Name(o) }): // which is judged there
		case row.Not != "" && slices.ContainsFunc(later, func(l string) bool { return Name(l) == row.Not }):
			out = append(out, Fault{Option: o, Trouble: Overruled, Says: fmt.Sprintf("%s says the opposite later: that counts", row.Not)})
		case row.Gone:
			out = append(out, Fault{Option: o, Trouble: NoEffect, Says: "the kernel takes it and does nothing"})
		case row.Default && row.To == Own && !off(o):
			out = append(out, Fault{Option: o, Trouble: Needless, Says: t.Type + " has it so without it"})
		}
	}
	return out
}

// off reports whether the value of an option turns off what its name says.
func off(o string) bool {
	_, value, valued := strings.Cut(o, "=")
	n, err := strconv.ParseUint(value, 0, 32)
	return valued && err == nil && n == 0
}

func (t Table) one(o string, all []string, has Has) Fault {
	row, ok := t.Find(o)
	name, value, valued := strings.Cut(o, "=")
	switch {
	case !ok && !t.Own:
		return Fault{Option: o, Trouble: Untold, Says: fmt.Sprintf("whether %s knows %s cannot be told", t.Type, quoted(o))}
	case !ok:
		f := Fault{Option: o, Trouble: Unknown, Says: fmt.Sprintf("%s does not know %s", t.Type, quoted(o))}
		if strings.TrimSpace(o) != o || strings.ContainsAny(o, " \t\r") {
			f.Says = fmt.Sprintf("%s holds a blank, and is one word for the kernel", quoted(o))
		}
		if f.Instead = t.Nearest(name); f.Instead != "" && valued && f.Instead != name {
			f.Instead += "=" + value
		}
		return f
	case valued && row.Value == "":
		return Fault{Option: o, Trouble: BadValue, Says: fmt.Sprintf("%s takes no value", name), Instead: name}
	case !valued && !row.Alone:
		return Fault{Option: o, Trouble: BadValue, Says: fmt.Sprintf("%s wants a value: %s", name, row.Takes())}
	case valued && !row.takes(value) && row.Value == Number && Account(o):
		return Fault{
			Option:  o,
			Trouble: Untold,
			Says:    fmt.Sprintf("whether the machine knows %s, whose number is looked up, cannot be told", quoted(value)),
		}
	case valued && !row.takes(value):
		return Fault{Option: o, Trouble: BadValue, Says: fmt.Sprintf("%s is no value of %s: %s", quoted(value), name, row.Takes())}
	case row.Needs == ReadOnly && !slices.Contains(all, "ro"):
		return Fault{Option: o, Trouble: Missing, Says: name + " is taken with ro alone", Instead: "ro," + o}
	case row.Needs == Older && has != nil && !has(Older):
		return Fault{Option: o, Trouble: Missing, Says: name + " is refused for this version of the format"}
	case row.Needs == Journal && has != nil && !has(Journal):
		return Fault{Option: o, Trouble: Missing, Says: name + " needs a journal, and this one has none"}
	case row.Needs == Built || row.Needs == Memory:
		return Fault{Option: o, Trouble: Untold, Says: fmt.Sprintf("%s needs %s: whether it is taken cannot be told", name, row.Needs)}
	}
	return Fault{}
}

// Account reports whether the option names a user or a group in place of its number: the mount
// program looks both up before the kernel sees them.
func Account(o string) bool {
	name, value, _ := strings.Cut(o, "=")
	return (name == "uid" || name == "gid") && value != "" && strings.Trim(value[:1], "0123456789-") != "" &&
		!strings.ContainsAny(value, " :/")
}

// takes reports whether the kernel takes the value, as far as its form tells.
func (o Option) takes(value string) bool {
	switch o.Value {
	case Number: // with 0x and a leading 0, as the kernel reads numbers
		_, err := strconv.ParseUint(value, 0, 32)
		return err == nil && !strings.Contains(value, "_")
	case Signed:
		_, err := strconv.ParseInt(value, 0, 32)
		return err == nil && !strings.Contains(value, "_")
	case Power, Even:
		n, err := strconv.ParseUint(value, 0, 32)
		return err == nil && (o.Value == Power && n&(n-1) == 0 || o.Value == Even && n >= 4 && n%2 == 0)
	case Octal:
		_, err := strconv.ParseUint(value, 8, 32)
		return err == nil
	case Word:
		return slices.Contains(o.Words, value)
	case Size:
		digits := strings.TrimRight(value, "kKmMgGtTpPeE%")
		_, err := strconv.ParseUint(digits, 0, 64)
		return err == nil && len(value)-len(digits) <= 1
	case Device:
		return value != ""
	}
	return true
}

// quoted is a word for a message; of a long one its beginning.
func quoted(word string) string {
	const most = 40
	if len(word) > most {
		return fmt.Sprintf("%.*q… (%d bytes)", most, word, len(word))
	}
	return strconv.Quote(word)
}

// Nearest is the row of the kind whose name differs least; empty where none is near.
func (t Table) Nearest(name string) string {
	const mostApart = 2
	name = strings.TrimSpace(name)
	best, least := "", mostApart+1
	for _, o := range t.Rows {
		apart := near.Distance(strings.ToLower(name), o.Name)
		if apart < least && apart*3 <= len(name)+1 {
			best, least = o.Name, apart
		}
	}
	return best
}
