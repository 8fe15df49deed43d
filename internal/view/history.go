package view

import (
	"fmt"

	"fundus/internal/deed"
)

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
