package view

import (
	"fmt"
	"strings"

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
	Number     int    `json:"line"`
	Spec       string `json:"spec"`
	MountPoint string `json:"mount_point"`
	Type       string `json:"type"`
	Device     string `json:"device,omitempty"`
	Outcome    string `json:"outcome"`
	Reason     string `json:"reason"`
	NoFail     bool   `json:"nofail"`
}

func rehearsalDocument(r *look.Rehearsal) RehearsalDoc {
	d := RehearsalDoc{head("rehearsal"), r.Machine, r.Verdict, []LineDoc{}}
	for _, l := range r.Lines {
		d.Lines = append(d.Lines, LineDoc{l.Number, l.Spec, l.Dir, l.Kind, l.Device, l.Outcome, l.Reason, l.NoFail})
	}
	return d
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
	case "comes up with delays":
		state = Changed
	}
	left, unknown := 0, 0
	for _, l := range r.Lines {
		switch l.Outcome {
		case "left out":
			left++
		case "unknown":
			unknown++
		}
	}
	verdict := fmt.Sprintf("next boot of %s: %s", r.Machine, r.Verdict)
	if left > 0 {
		verdict += fmt.Sprintf(", without %s", count(left, "line"))
	}
	if unknown > 0 {
		verdict += fmt.Sprintf(", as far as can be told: %s unknown", count(unknown, "line"))
		if state == InUse {
			state = Changed
		}
	}
	p.printf("%s\n\n", p.paint(state, verdict))
	var rows [][]string
	for _, l := range r.Lines {
		rows = append(rows, []string{fmt.Sprint(l.Number), visible(l.Dir), visible(l.Kind), l.Outcome, visible(l.Device)})
	}
	p.columns(2, []string{">line", "mount point", "type", "outcome", "device"}, rows)
	for _, l := range r.Lines {
		if l.Outcome == "mounted" && !strings.Contains(l.Reason, ";") {
			continue
		}
		p.printf("\n")
		p.wrap(2, fmt.Sprintf("line %d: ", l.Number), visible(l.Reason)+".")
		if l.Next != "" {
			p.wrap(2, "do:     ", visible(l.Next))
		}
	}
}
