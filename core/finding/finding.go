// Package finding holds what checks say: each kind of finding has a stable identifier, a
// severity and the reason why it matters, in the catalogue of the package that finds it.
// A check adds the thing, the numbers and the way out.
package finding

import (
	"fmt"
	"regexp"
	"strings"

	"fundus/core/way"
)

// lineNumber is what changes when lines move.
var lineNumber = regexp.MustCompile(`\bline [0-9]+`)

// Severity orders findings.
type Severity string

// The severities, from the least.
const (
	Note    Severity = "note"
	Warning Severity = "warning"
	Error   Severity = "error"
)

// Rank is 0 for a note, 1 for a warning, 2 for an error.
func (s Severity) Rank() int {
	switch s {
	case Error:
		return 2
	case Warning:
		return 1
	}
	return 0
}

// ParseSeverity reads the word given to --severity.
func ParseSeverity(word string) (Severity, error) {
	switch s := Severity(word); s {
	case Note, Warning, Error:
		return s, nil
	}
	return "", fmt.Errorf("%q is not a severity: use note, warning or error", word)
}

// ID names a kind of finding for ever.
type ID string

// Finding is one thing that a check found.
type Finding struct {
	ID       ID
	Severity Severity
	Thing    string   // device or file:line
	Text     string   // what, with the numbers
	Why      string   // why it matters, one sentence
	Mend     way.Step // a command that mends it
	Remedy   string
}

// New makes a finding of that kind; the text is formatted.
func (e Entry) New(thing, format string, args ...any) Finding {
	return Finding{ID: e.ID, Severity: e.Severity, Thing: thing, Text: fmt.Sprintf(format, args...), Why: e.Why}
}

// WithMend adds the command that mends it.
func (f Finding) WithMend(s way.Step) Finding {
	f.Mend = s
	return f
}

// WithRemedy says in words what to do, where no command does it.
func (f Finding) WithRemedy(format string, args ...any) Finding {
	f.Remedy = fmt.Sprintf(format, args...)
	return f
}

// Worst is the highest severity among the findings, "" without any.
func Worst(list []Finding) Severity {
	worst := Severity("")
	for _, f := range list {
		if worst == "" || f.Severity.Rank() > worst.Rank() {
			worst = f.Severity
		}
	}
	return worst
}

// AtLeast keeps the findings of the severity and above.
func AtLeast(list []Finding, bar Severity) []Finding {
	var out []Finding
	for _, f := range list {
		if f.Severity.Rank() >= bar.Rank() {
			out = append(out, f)
		}
	}
	return out
}

// Key tells findings apart: by what they are about, and for a line of a text file
// by what is said of it, since lines move.
func (f Finding) Key() string {
	thing := f.Thing
	if i := strings.LastIndexByte(thing, ':'); strings.HasPrefix(thing, "/") && i > 0 {
		thing = thing[:i] + lineNumber.ReplaceAllString(f.Text, "line")
	}
	return string(f.ID) + "\x00" + thing
}

// Added gives the findings of after that before did not have.
func Added(before, after []Finding) []Finding {
	had := map[string]bool{}
	for _, f := range before {
		had[f.Key()] = true
	}
	var out []Finding
	for _, f := range after {
		if !had[f.Key()] {
			out = append(out, f)
		}
	}
	return out
}
