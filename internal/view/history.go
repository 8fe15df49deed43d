package view

import (
	"fmt"
	"time"

	"fundus/internal/deed"
)

// DeedsDoc is the document of kind deeds.
type DeedsDoc struct {
	Head
	Deeds []DeedDoc `json:"deeds"`
}

// DeedDoc is one deed.
type DeedDoc struct {
	ID       string    `json:"id"`
	Created  time.Time `json:"created"`
	State    string    `json:"state"`
	Title    string    `json:"title"`
	Undoes   string    `json:"undoes,omitempty"`
	UndoneBy string    `json:"undone_by,omitempty"`
	Problem  string    `json:"problem,omitempty"`
}

// DraftsDoc is the document of kind drafts.
type DraftsDoc struct {
	Head
	Drafts []StoredDoc `json:"drafts"`
}

// StoredDoc is one stored draft.
type StoredDoc struct {
	Code    string    `json:"code"`
	Created time.Time `json:"created"`
	Machine string    `json:"machine"`
	Title   string    `json:"title"`
}

// RecoveryDoc is the document of kind recovery.
type RecoveryDoc struct {
	Head
	Changed   bool   `json:"changed"`
	Deed      string `json:"deed"`
	Direction string `json:"direction"`
	Strokes   int    `json:"strokes"`
}

func deedsDocument(list []*deed.Deed) DeedsDoc {
	d := DeedsDoc{head("deeds"), []DeedDoc{}}
	for _, x := range list {
		state, _ := stateWords(x)
		doc := DeedDoc{ID: x.ID, Created: x.Created, State: state, Title: x.Title, Undoes: x.Undoes, UndoneBy: x.UndoneBy}
		if x.Problem != nil {
			doc.Problem = x.Problem.Error()
		}
		d.Deeds = append(d.Deeds, doc)
	}
	return d
}

func draftsDocument(list []deed.StoredDraft) DraftsDoc {
	d := DraftsDoc{head("drafts"), []StoredDoc{}}
	for _, x := range list {
		d.Drafts = append(d.Drafts, StoredDoc{x.Code, x.Created, x.Machine, x.Title})
	}
	return d
}

func recoveryDocument(o *deed.Outcome) RecoveryDoc {
	return RecoveryDoc{head("recovery"), o.Strokes > 0, o.Deed.ID, string(o.Direction), o.Strokes}
}

const clock = "2006-01-02 15:04:05"

// Deeds prints the history, newest first.
func (p *Printer) Deeds(list []*deed.Deed) error {
	if p.JSON {
		return p.document(deedsDocument(list))
	}
	if len(list) == 0 {
		p.printf("no deeds: nothing was committed yet\n")
		return nil
	}
	var rows [][]string
	for _, d := range list {
		state, colour := stateWords(d)
		when := ""
		if d.Problem == nil {
			when = d.Created.Local().Format(clock)
		}
		rows = append(rows, []string{d.ID, when, p.paint(colour, state), visible(d.Title)})
	}
	p.columns(0, []string{"deed", "when", "state", "what"}, rows)
	return nil
}

func stateWords(d *deed.Deed) (string, State) {
	switch {
	case d.Problem != nil:
		return "damaged", Lost
	case d.State == deed.Unfinished:
		return "cut short", Lost
	case d.UndoneBy != "":
		return "undone", Plain
	case d.State == deed.TakenBack:
		return "taken back", Plain
	}
	return "done", InUse
}

// Deed prints one deed.
func (p *Printer) Deed(d *deed.Deed) error {
	if p.JSON {
		return p.document(deedsDocument([]*deed.Deed{d}))
	}
	state, colour := stateWords(d)
	p.printf("%s  %s  %s\n", p.paint(Strong, "deed "+d.ID), p.paint(colour, state), visible(d.Title))
	if d.Problem != nil {
		p.wrap(2, "", visible(d.Problem.Error()))
		return nil
	}
	rows := [][]string{{"when", d.Created.Local().Format(clock)}, {"machine", visible(d.Machine)}, {"undo", undoWords(d.Undo, d.Last)}}
	for _, t := range d.Written() {
		rows = append(rows, []string{"device", visible(t.Name + ": " + t.Identity.String())})
	}
	if d.Undoes != "" {
		rows = append(rows, []string{"undoes", d.Undoes})
	}
	if d.UndoneBy != "" {
		rows = append(rows, []string{"undone by", d.UndoneBy})
	}
	for i, s := range d.Steps {
		rows = append(rows, []string{fmt.Sprintf("step %d", i+1), visible(s.Title)})
	}
	p.facts(rows)
	switch {
	case d.State == deed.Unfinished:
		p.printf("to finish it or take it back: fundus recover %s\n", d.ID)
	case d.Undoable():
		p.printf("to take it back: fundus undo %s\n", d.ID)
	}
	return nil
}

// Drafts prints the stored drafts.
func (p *Printer) Drafts(list []deed.StoredDraft) error {
	if p.JSON {
		return p.document(draftsDocument(list))
	}
	if len(list) == 0 {
		p.printf("no drafts are waiting\n")
		return nil
	}
	var rows [][]string
	for _, d := range list {
		rows = append(rows, []string{d.Code, d.Created.Local().Format(clock), visible(d.Machine), visible(d.Title)})
	}
	p.columns(0, []string{"code", "made", "machine", "what"}, rows)
	p.printf("fundus commit CODE carries one out\n")
	return nil
}

// Recovered says what recover did.
func (p *Printer) Recovered(o *deed.Outcome) error {
	if p.JSON {
		return p.document(recoveryDocument(o))
	}
	words := "completed"
	switch o.Direction {
	case deed.Back:
		words = "taken back: everything is as before"
	case deed.Stay:
		words = "ended as it is: nothing was touched"
	}
	p.printf("%s\n", p.paint(InUse, fmt.Sprintf("deed %s %s (%s)", o.Deed.ID, words, visible(o.Deed.Title))))
	return nil
}

// Line prints one line of prose, or its document.
func (p *Printer) Line(kind, words string) error {
	if p.JSON {
		return p.document(messageDocument(kind, words))
	}
	if !p.Quiet {
		p.printf("%s\n", visible(words))
	}
	return nil
}

// Prose prints a sentence between two commands of the demo.
func (p *Printer) Prose(words string) {
	p.printf("\n")
	p.wrap(0, "", words)
}

// Command prints a command line as it is typed.
func (p *Printer) Command(line string) { p.printf("\n%s\n", p.paint(Strong, "$ "+line)) }
