package view

import (
	"fundus/core/finding"
	"fundus/core/inventory"
	"fundus/core/way"
)

// WayDoc is a command that leads on, as a program would start it, or what somebody has to do.
type WayDoc struct {
	Words    []string `json:"words"`          // the command with the program's name; none where it is done by hand
	Text     string   `json:"text"`           // the command as a shell takes it, or what to do by hand
	When     string   `json:"when,omitempty"` // it is the right one then alone
	Asks     []string `json:"asks,omitempty"` // words of it that a person must decide first
	Destroys bool     `json:"destroys"`       // never true: what destroys is advised for nothing that holds something
}

func wayDoc(s way.Step) WayDoc {
	d := WayDoc{Words: orEmpty(s.Words), Text: s.Text, Asks: s.Asks}
	if len(s.Words) > 0 {
		d.Text, d.When = s.Line(), s.Text
	}
	return d
}

// wayOf is the document of a step, nil of none.
func wayOf(s way.Step) *WayDoc {
	if s.Empty() {
		return nil
	}
	d := wayDoc(s)
	return &d
}

// FindingDoc is one thing that a check found.
type FindingDoc struct {
	ID       string  `json:"id"`
	Severity string  `json:"severity" of:"severity"`
	Thing    string  `json:"thing"`          // device or file:line
	Text     string  `json:"text"`           // what, with the numbers
	Why      string  `json:"why"`            // why it matters
	Mend     *WayDoc `json:"mend,omitempty"` // the command that mends it
	Remedy   string  `json:"remedy,omitempty"`
}

func findingDocs(list []finding.Finding) []FindingDoc {
	out := []FindingDoc{}
	for _, f := range list {
		out = append(out, FindingDoc{string(f.ID), string(f.Severity), f.Thing, f.Text, f.Why, wayOf(f.Mend), f.Remedy})
	}
	return out
}

// TargetDoc is by which words a device is named.
type TargetDoc struct {
	Word   string   `json:"word"`   // what a command takes
	Stable bool     `json:"stable"` // it means the same device after a reboot
	Also   []string `json:"also"`   // other words that do, as long as what is on it stays
}

func targetDoc(c inventory.Called) *TargetDoc { return &TargetDoc{c.Word, c.Stable, orEmpty(c.Also)} }
