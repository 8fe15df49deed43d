package view

import (
	"strings"

	"fundus/core/refused"
	"fundus/internal/draft"
	"fundus/internal/problem"
)

// ErrorDoc is the document of kind error.
type ErrorDoc struct {
	Head
	Code    int        `json:"exit_code"`
	ID      string     `json:"id" of:"error"`
	Text    string     `json:"text"`
	State   string     `json:"state" of:"state"`
	Rule    string     `json:"rule,omitempty"`   // the finer word, where there is one: of the rules, a finding, or a setting's key
	Thing   string     `json:"thing,omitempty"`  // that it is about: a device, a mount point, a file
	Device  string     `json:"device,omitempty"` // that one, by its name now
	Target  *TargetDoc `json:"target,omitempty"` // of that device
	Needs   []NeedDoc  `json:"needs"`            // without which it does not go ahead
	Next    *WayDoc    `json:"next,omitempty"`   // what leads on
	Remarks []string   `json:"remarks"`          // what was done beside, such as that a disk was asked for its size
	Draft   *DraftDoc  `json:"draft,omitempty"`  // which takes the place of a stale one, with its code
}

// Problem is what went wrong.
type Problem problem.Problem

// Document implements Report.
func (r Problem) Document() any {
	d := ErrorDoc{
		Head:    head("error"),
		Code:    r.Code,
		ID:      string(r.ID),
		Text:    r.Text,
		State:   string(r.State),
		Rule:    r.Rule,
		Thing:   r.Thing,
		Device:  r.Device,
		Remarks: orEmpty(r.Remarks),
		Needs:   needDocs(r.Needs),
		Next:    wayOf(r.Next),
	}
	if r.Target != nil {
		d.Target = targetDoc(*r.Target)
	}
	if r.Now != nil {
		now := draftDocument(r.Now, Result{Stored: true, Needs: r.Needs})
		d.Draft = &now
	}
	return d
}

// Words implements Report.
func (r Problem) Words(p *Printer) {
	for _, remark := range r.Remarks {
		p.wrap(0, "", visible(remark))
	}
	p.Failure(r.Text)
	switch {
	case r.State == problem.Stopped, r.State == problem.Partly, r.Looks: // the text says it
	case r.ID == refused.BadWords:
		p.Failure("no device was read or changed")
	default:
		p.Failure("nothing was changed")
	}
	if !r.Next.Empty() {
		p.Next(r.Next)
	}
}

// NeedDoc is an option that is needed, and why.
type NeedDoc struct {
	ID      string   `json:"id" of:"need"` // loss, references, finding or content
	Option  string   `json:"option"`       // as it is typed; with choices, what stands before them
	Device  string   `json:"device,omitempty"`
	Choices []string `json:"choices,omitempty"`
	Why     string   `json:"why"`
}

func needDocs(needs []draft.Need) []NeedDoc {
	out := []NeedDoc{}
	for _, n := range needs {
		d := NeedDoc{ID: string(n.ID), Option: n.Option, Device: n.Device, Why: n.Why}
		if option, list, ok := strings.Cut(n.Option, "="); ok && strings.Contains(list, "|") && n.ID == draft.NeedReferences {
			d.Option, d.Choices = option+"=", strings.Split(list, "|")
		}
		out = append(out, d)
	}
	return out
}
