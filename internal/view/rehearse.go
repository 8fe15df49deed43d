package view

import (
	"fmt"
	"slices"

	"github.com/jedib0t/go-pretty/v6/text"

	"fundus/internal/look"
)

// RehearsalDoc is the document of kind rehearsal.
type RehearsalDoc struct {
	Head
	Machine string    `json:"machine"`
	Verdict string    `json:"verdict"`
	Lines   []LineDoc `json:"lines"`
}

// LineDoc is one line of fstab.
type LineDoc struct {
	Number     int    `json:"line"` // 0 for a unit
	Unit       string `json:"unit_file,omitempty"`
	Spec       string `json:"spec"`
	MountPoint string `json:"mount_point"`
	Type       string `json:"type"`
	Device     string `json:"device,omitempty"`
	Outcome    string `json:"outcome"`
	Reason     string `json:"reason"`
	NoFail     bool   `json:"nofail"`
	Options    string `json:"options"`
	Pass       int    `json:"check_order"`
}

func rehearsalDocument(r *look.Rehearsal) RehearsalDoc {
	d := RehearsalDoc{head("rehearsal"), r.Machine, r.Verdict, []LineDoc{}}
	for _, l := range all(r) {
		d.Lines = append(d.Lines, LineDoc{l.Number, l.File, l.Spec, l.Dir, l.Kind, l.Device, l.Outcome, l.Reason, l.NoFail, l.Options, l.Pass})
	}
	return d
}

// all are the lines, and the units behind them.
func all(r *look.Rehearsal) []look.RehearsedLine { return append(slices.Clone(r.Lines), r.Units...) }

// place is the number of a line, or the word for a unit.
func place(l look.RehearsedLine) string {
	if l.File != "" {
		return "unit"
	}
	return fmt.Sprint(l.Number)
}

// Rehearsal is what the next boot would do.
type Rehearsal struct{ *look.Rehearsal }

// Document implements Report.
func (r Rehearsal) Document() any { return rehearsalDocument(r.Rehearsal) }

// Words implements Report.
func (r Rehearsal) Words(p *Printer) {
	state := InUse
	switch r.Verdict {
	case "emergency shell":
		state = Lost
	case "comes up with delays", "comes up without mounts that fstab asks for":
		state = Changed
	}
	verdict, unknown := verdictOf(r.Rehearsal)
	if unknown && state == InUse {
		state = Changed
	}
	p.wrap(0, "", p.paint(state, fmt.Sprintf("next boot of %s: %s", visible(r.Machine), verdict)))
	dirs, kinds := 0, 0
	for _, l := range all(r.Rehearsal) {
		dirs, kinds = max(dirs, text.StringWidth(visible(l.Dir))), max(kinds, text.StringWidth(visible(l.Kind)))
	}
	const mostDir = 24 // what is longer is cut: the reason is what matters
	dirs = min(dirs, mostDir)
	for _, l := range all(r.Rehearsal) {
		words := l.Outcome
		if l.Reason != "" {
			words += ": " + visible(l.Reason)
		}
		p.wrap(0, fmt.Sprintf("%4s  %s  %s  ", place(l), text.Pad(text.Snip(visible(l.Dir), dirs, p.ellipsis()), dirs, ' '), text.Pad(visible(l.Kind), kinds, ' ')), words)
		if l.Next != "" {
			p.printf("      %s\n", p.paint(Strong, visible(l.Next)))
		}
	}
}

// verdictOf says in one line whether the boot comes up, and whether all of it can be told.
func verdictOf(r *look.Rehearsal) (words string, unknown bool) {
	n := map[string]int{}
	for _, l := range all(r) {
		n[l.Outcome]++
	}
	told := n["unknown"] == 0
	switch {
	case r.Verdict == "emergency shell":
		words = "ends in the emergency shell (" + count(n["emergency shell"], "line") + ")"
	case r.Verdict == "comes up with delays":
		words = "comes up with delays (" + count(n["delays the boot"], "line") + ")"
	case n["not mounted"] > 0:
		words = "comes up without " + count(n["not mounted"], "mount") + " that fstab asks for"
	case told:
		words = "comes up"
	default:
		words = "comes up as far as can be told"
	}
	if n["left out"] > 0 {
		words += "; without " + count(n["left out"], "line")
	}
	if !told {
		words += "; " + count(n["unknown"], "line") + " cannot be told"
	}
	return words, !told
}
