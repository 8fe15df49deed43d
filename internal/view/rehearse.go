package view

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"

	"fundus/internal/look"
)

// RehearsalDoc is the document of kind rehearsal.
type RehearsalDoc struct {
	Head
	Machine    string    `json:"machine"`
	Supposed   []string  `json:"supposed"`
	Verdict    string    `json:"verdict" of:"verdict"`
	Summary    string    `json:"summary"` // the verdict in words, with numbers
	Why        string    `json:"why,omitempty"`
	Delay      int       `json:"delay_seconds"`  // -1: without an end
	Root       string    `json:"root,omitempty"` // in words
	RootDevice string    `json:"root_device,omitempty"`
	Lines      []LineDoc `json:"lines"`
	Notes      []string  `json:"notes"`
	Unforeseen []string  `json:"unknown_generators"`
}

// LineDoc is one line of fstab.
type LineDoc struct {
	Number     int     `json:"line"` // 0 for a unit
	Unit       string  `json:"unit_file,omitempty"`
	Spec       string  `json:"spec"`
	MountPoint string  `json:"mount_point"`
	Type       string  `json:"type"`
	Device     string  `json:"device,omitempty"`
	Outcome    string  `json:"outcome" of:"outcome"`
	Reason     string  `json:"reason"`
	Mend       *WayDoc `json:"mend,omitempty"`
	Wait       int     `json:"wait_seconds"` // -1: without an end
	Cause      bool    `json:"cause"`        // the verdict comes of it
	NoFail     bool    `json:"nofail"`
	Options    string  `json:"options"`
	Pass       int     `json:"check_order"`
}

// seconds are those of a span, of a part of one the whole; -1 for one without an end.
func seconds(d time.Duration) int {
	if d == look.Forever {
		return -1
	}
	return int((d + time.Second - 1) / time.Second)
}

func rehearsalDocument(r *look.Rehearsal) RehearsalDoc {
	d := RehearsalDoc{
		head("rehearsal"), r.Machine, orEmpty(r.Supposed), verdicts()[r.Verdict], r.Sentence, r.Why, seconds(r.Delay),
		r.Root, r.RootOn, []LineDoc{}, orEmpty(r.Notes), orEmpty(r.Unforeseen),
	}
	for _, l := range all(r) {
		d.Lines = append(d.Lines, LineDoc{
			l.Number, l.File, l.Spec, placed(l.Dir, l.Swap), l.Kind, l.Device, outcomes()[l.Outcome], l.Reason, wayOf(l.Next),
			seconds(l.Wait), l.First, l.NoFail, l.Options, l.Pass,
		})
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
type Rehearsal struct {
	*look.Rehearsal
	All  bool // a row for every line
	Done bool // the boot took place
}

// Document implements Report.
func (r Rehearsal) Document() any { return rehearsalDocument(r.Rehearsal) }

// fewLines are shown each in a row of its own, whatever becomes of them.
const fewLines = 4

// Words implements Report: the verdict, its causes with what mends them, and what is well in a
// row or two.
func (r Rehearsal) Words(p *Printer) {
	p.wrap(0, "", p.paint(verdictState(r.Rehearsal), "next boot of "+visible(r.Machine)+": "+visible(r.Sentence)))
	for _, s := range r.Supposed {
		p.wrap(2, "supposed  ", visible(s))
	}
	if r.Why != "" {
		p.wrap(2, "why  ", visible(r.Why))
	}
	if r.Asked {
		p.rehearsed(all(r.Rehearsal))
	}
	list := all(r.Rehearsal)
	if r.Asked || r.Verdict == "does not find its root" && !r.All { // nothing else happens
		list = nil
	}
	shown := list
	if !r.All && len(list) > fewLines {
		shown = slices.DeleteFunc(slices.Clone(list), fine)
	}
	slices.SortStableFunc(shown, func(a, b look.RehearsedLine) int {
		return cmp.Compare(map[bool]int{true: 0, false: 1}[a.First], map[bool]int{true: 0, false: 1}[b.First])
	})
	if len(shown) > 0 {
		p.rehearsed(shown)
	}
	if len(shown) < len(list) {
		p.folded(list)
	}
	for _, n := range r.Notes {
		p.wrap(2, "note: ", visible(n))
	}
	if len(r.Unforeseen) > 0 {
		p.wrap(2, "note: ", "units are made at boot that are not predicted, by "+visible(strings.Join(r.Unforeseen, ", ")))
	}
	if r.Done {
		return
	}
	p.wrap(0, "", p.paint(Free, "not predicted: file-system checks, slow disks, passphrases, network, services"))
}

// placed is a mount point; swap has none, whatever stands in the line.
func placed(dir string, swap bool) string {
	if swap {
		return ""
	}
	return dir
}

// dirOf is the place of a line in words.
func dirOf(l look.RehearsedLine) string { return cmp.Or(placed(l.Dir, l.Swap), "swap") }

// fine reports whether nothing needs to be said of a line.
func fine(l look.RehearsedLine) bool {
	return !l.First && (l.Outcome == "mounted" || l.Outcome == look.SwapOn || l.Outcome == "not at boot" || l.Outcome == "left to the network")
}

// rehearsed shows lines, each with what becomes of it and what mends it.
func (p *Printer) rehearsed(list []look.RehearsedLine) {
	dirs, kinds := 0, 0
	for _, l := range list {
		dirs, kinds = max(dirs, text.StringWidth(visible(dirOf(l)))), max(kinds, text.StringWidth(visible(l.Kind)))
	}
	const mostDir, mostKind = 24, 12 // what is longer is cut: the reason is what matters
	dirs, kinds = min(dirs, mostDir), min(kinds, mostKind)
	for _, l := range list {
		words := l.Outcome
		if l.Reason != "" {
			words += ": " + visible(l.Reason)
		}
		lead := fmt.Sprintf("%4s  %s  %s  ", place(l),
			text.Pad(text.Snip(visible(dirOf(l)), dirs, p.ellipsis()), dirs, ' '),
			text.Pad(text.Snip(visible(l.Kind), kinds, p.ellipsis()), kinds, ' '))
		if text.StringWidth(lead) <= p.Width/2 {
			p.wrap(0, lead, words)
		} else { // too narrow for both beside each other
			p.printf("%s\n", strings.TrimRight(lead, " "))
			p.wrap(6, "", words)
		}
		if !l.Next.Empty() {
			p.printf("      %s\n", p.paint(Strong, visible(l.Next.String())))
		}
	}
}

// mostFolded is how many places a row names of those that are well.
const mostFolded = 6

// folded names the lines that are well, by what becomes of them.
func (p *Printer) folded(list []look.RehearsedLine) {
	for _, result := range []string{"mounted", look.SwapOn, "not at boot", "left to the network"} {
		var dirs []string
		for _, l := range list {
			if l.Outcome == result && fine(l) {
				dir := visible(l.Dir)
				if l.Swap {
					dir = strings.TrimSpace("swap " + l.Device)
				}
				dirs = append(dirs, dir)
			}
		}
		if len(dirs) == 0 {
			continue
		}
		n := len(dirs)
		words := strings.Join(dirs[:min(n, mostFolded)], ", ")
		if n > mostFolded {
			words += fmt.Sprintf(" and %d more (--all)", n-mostFolded)
		}
		p.wrap(2, fmt.Sprintf("%s, %s: ", count(n, "line"), result), words)
	}
}

func verdictState(r *look.Rehearsal) State {
	switch r.Verdict {
	case "emergency shell", "does not find its root", "waits for ever":
		return Lost
	case "comes up":
		if !slices.ContainsFunc(all(r), func(l look.RehearsedLine) bool { return l.Outcome == "unknown" }) {
			return InUse
		}
	}
	return Changed
}
