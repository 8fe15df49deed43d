package view

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"time"

	"fundus/core/way"
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
	Number   int       `json:"number"`
	Created  time.Time `json:"created"`
	State    string    `json:"state" of:"deed-state"`
	Title    string    `json:"title"`
	Machine  string    `json:"machine"`
	Undo     string    `json:"undo,omitempty" of:"undo"` // how far it can be taken back
	CanUndo  string    `json:"can_undo" of:"can-undo"`   // as far as other deeds tell; later: once newer ones in the same place are taken back
	On       []string  `json:"on"`                       // devices, or text files where it wrote to none
	Undoes   string    `json:"undoes,omitempty"`
	UndoneBy string    `json:"undone_by,omitempty"`
	Problem  string    `json:"problem,omitempty"` // why it cannot be read
}

// ShownDeedDoc is the document of kind deed.
type ShownDeedDoc struct {
	Head
	DeedDoc
	Devices []DeedDeviceDoc `json:"devices"`
	Steps   []StepDoc       `json:"steps"`
	Next    *WayDoc         `json:"next,omitempty"` // what finishes it, or takes it back
}

// DeedDeviceDoc is a device that the deed names.
type DeedDeviceDoc struct {
	Name     string `json:"name"`     // when it was planned
	Identity string `json:"identity"` // by which it is found again
	Written  bool   `json:"written"`  // its bytes change
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
	Direction string `json:"direction,omitempty" of:"direction"`
	Strokes   int    `json:"strokes"`
}

// deedDoc is one deed; why it cannot be taken back, nil where it can.
func deedDoc(x *deed.Deed, noWay error) DeedDoc {
	state, _ := stateWords(x)
	doc := DeedDoc{
		ID:       x.ID,
		Number:   x.Number,
		Created:  x.Created,
		State:    deedStates()[state],
		Title:    x.Title,
		Machine:  x.Machine,
		Undo:     string(x.Undo),
		CanUndo:  canUndo(x, noWay),
		On:       orEmpty(touched(x)),
		Undoes:   x.Undoes,
		UndoneBy: x.UndoneBy,
	}
	if x.Problem != nil {
		doc.Problem = x.Problem.Error()
	}
	return doc
}

// canUndo says whether a deed can be taken back now.
func canUndo(x *deed.Deed, noWay error) string {
	switch {
	case noWay == nil:
		return "yes"
	case errors.Is(noWay, deed.ErrNewer) && x.Reversible():
		return "later" // a newer one first
	}
	return "no"
}

func deedsDocument(list []*deed.Deed) DeedsDoc {
	d := DeedsDoc{head("deeds"), []DeedDoc{}}
	for _, x := range list {
		d.Deeds = append(d.Deeds, deedDoc(x, deed.NoWay(list, x)))
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
	return RecoveryDoc{head("recovery"), o.Strokes > 0, o.Deed.ID, directions()[string(o.Direction)], o.Strokes}
}

const clock = "2006-01-02 15:04:05"

// Deeds is the history, newest first.
type Deeds struct {
	List []*deed.Deed
	All  bool // not the newest alone
	// Elsewhere is where root's deeds lie, where these are somebody else's.
	Elsewhere string
}

// Document implements Report.
func (r Deeds) Document() any { return deedsDocument(r.List) }

// Words implements Report.
func (r Deeds) Words(p *Printer) {
	list := r.List
	if len(list) == 0 {
		if r.Elsewhere != "" {
			p.wrap(0, "", "no deeds of this user; root's are in "+r.Elsewhere+": look as root")
			return
		}
		p.printf("no deeds: nothing was committed yet\n")
		return
	}
	var rows [][]string
	for _, d := range list {
		state, colour := stateWords(d)
		when := ""
		if d.Problem == nil {
			when = d.Created.Local().Format(clock)
		}
		undo := canUndo(d, deed.NoWay(list, d))
		if undo == "no" {
			undo = "-"
		}
		rows = append(rows, []string{
			fmt.Sprint(d.Number), when, p.paint(colour, state), undo, visible(briefly(touched(d))), visible(d.Title),
		})
	}
	const newest = 20
	more := len(rows) - newest
	if !r.All && more > 0 {
		rows = rows[:newest]
	}
	for _, line := range p.fitted([]string{">deed", "when", "state", "undo", "on", "what"}, rows, 5, 4) {
		p.printf("%s\n", line)
	}
	if slices.ContainsFunc(rows, func(row []string) bool { return row[3] == "later" }) {
		p.wrap(0, "later: ", "after the newer deeds in the same place are undone")
	}
	if !r.All && more > 0 {
		p.printf("%s older; fundus deed list --all\n", count(more, "deed"))
	}
}

// touched are the disks that a deed wrote to, else its text files.
func touched(d *deed.Deed) (words []string) {
	for _, t := range d.Written() {
		words = append(words, t.Name)
	}
	for _, s := range d.Steps {
		if path := deed.ShownOf(s).Path; path != "" && len(d.Written()) == 0 && !slices.Contains(words, path) {
			words = append(words, path)
		}
	}
	return words
}

// briefly is the first of them, and how many there are beside it; of a long path the name alone.
func briefly(words []string) string {
	const wide = 24 // columns
	if len(words) == 0 {
		return ""
	}
	text := words[0]
	if len(text) > wide {
		text = path.Base(text)
	}
	if r := []rune(text); len(r) > wide {
		text = "…" + string(r[len(r)-wide+1:])
	}
	if more := len(words) - 1; more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
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

// Deed is one deed.
type Deed struct {
	*deed.Deed
	NoWay error // why it cannot be taken back, as far as other deeds tell
}

// Document implements Report.
func (r Deed) Document() any {
	doc := ShownDeedDoc{head("deed"), deedDoc(r.Deed, r.NoWay), []DeedDeviceDoc{}, []StepDoc{}, wayOf(r.next())}
	for _, t := range r.Devices {
		doc.Devices = append(doc.Devices, DeedDeviceDoc{t.Name, t.Identity.String(), t.Written})
	}
	for _, s := range r.Steps {
		doc.Steps = append(doc.Steps, stepDocument(s))
	}
	return doc
}

// next finishes the deed, or takes it back.
func (r Deed) next() way.Step {
	switch {
	case r.Problem == nil && r.State == deed.Unfinished:
		return way.Recover(r.ID)
	case r.Undoes == "" && r.NoWay == nil:
		return way.Undo(r.ID)
	}
	return way.None()
}

// Words implements Report.
func (r Deed) Words(p *Printer) {
	d := r.Deed
	state, colour := stateWords(d)
	p.printf("%s  %s  %s\n", p.paint(Strong, "deed "+d.ID), p.paint(colour, state), visible(d.Title))
	if d.Problem != nil {
		p.wrap(2, "", visible(d.Problem.Error()))
		return
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
		p.printf("to finish it or take it back: %s\n", r.next().Line())
	case d.Undoes == "" && r.NoWay == nil:
		p.printf("to take it back: %s\n", r.next().Line())
	case d.Undoes == "" && errors.Is(r.NoWay, deed.ErrNewer):
		p.wrap(0, "to take it back: ", visible(r.NoWay.Error()))
	}
}

// Drafts is the stored drafts.
type Drafts struct{ List []deed.StoredDraft }

// Document implements Report.
func (r Drafts) Document() any { return draftsDocument(r.List) }

// Words implements Report.
func (r Drafts) Words(p *Printer) {
	list := r.List
	if len(list) == 0 {
		p.printf("no drafts are waiting\n")
		return
	}
	var rows [][]string
	for _, d := range list {
		rows = append(rows, []string{d.Code, d.Created.Local().Format(clock), visible(d.Machine), visible(d.Title)})
	}
	p.columns(0, []string{"code", "made", "machine", "what"}, rows)
	p.printf("fundus commit CODE carries one out\n")
}

// Recovered is what recover did.
type Recovered struct{ *deed.Outcome }

// Document implements Report.
func (r Recovered) Document() any { return recoveryDocument(r.Outcome) }

// Words implements Report.
func (r Recovered) Words(p *Printer) {
	o := r.Outcome
	words := "completed"
	switch o.Direction {
	case deed.Back:
		words = "taken back: everything is as before"
	case deed.Stay:
		words = "ended as it is: nothing was touched"
	}
	p.printf("%s\n", p.paint(InUse, fmt.Sprintf("deed %s %s (%s)", o.Deed.ID, words, visible(o.Deed.Title))))
}

// Message is a sentence.
type Message struct{ Text string }

// Document implements Report.
func (r Message) Document() any { return MessageDoc{head("message"), r.Text} }

// Words implements Report.
func (r Message) Words(p *Printer) {
	if !p.Quiet {
		p.printf("%s\n", visible(r.Text))
	}
}

// Prose prints a sentence between two commands of the demo.
func (p *Printer) Prose(words string) {
	p.printf("\n")
	p.wrap(0, "", words)
}

// Command prints a command line as it is typed; right below the prose that it belongs to.
func (p *Printer) Command(line string, below bool) {
	if !below {
		p.printf("\n")
	}
	p.printf("%s\n", p.paint(Strong, "$ "+line))
}

// Aside prints what belongs to the lines above it.
func (p *Printer) Aside(words string) { p.wrap(0, "", words) }
