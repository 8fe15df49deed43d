package view

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/jedib0t/go-pretty/v6/text"

	"fundus/core/finding"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/way"
	"fundus/internal/deed"
	"fundus/internal/draft"
)

// DraftDoc is the document of kind draft.
type DraftDoc struct {
	Head
	Changed  bool         `json:"changed"`
	Stored   bool         `json:"stored"`
	Deed     string       `json:"deed,omitempty"`
	Later    []string     `json:"later"`   // done on disk; the running system takes it up at the next boot
	Reverse  []WayDoc     `json:"reverse"` // commands that reverse what was done at once, in their order
	Remarks  []string     `json:"remarks"` // of a commit, and of what was done before the draft
	Code     string       `json:"code,omitempty"`
	Machine  string       `json:"machine"`
	Title    string       `json:"title"`
	Before   []DeviceDoc  `json:"before"`
	After    []DeviceDoc  `json:"after"`
	Facts    []FactDoc    `json:"facts"`
	Settings []ValueDoc   `json:"settings"`
	Notes    []string     `json:"notes"`
	Warnings []string     `json:"warnings"`
	Losses   []LossDoc    `json:"losses"`
	Would    bool         `json:"would_change"`
	Results  []ResultDoc  `json:"results"` // what is there afterwards of what was asked for, changed or not
	Layers   []LayerDoc   `json:"layers"`  // of a change of size, the outermost first
	Needs    []NeedDoc    `json:"needs"`   // without which it is not committed
	Files    []FileDoc    `json:"files"`
	Findings []FindingDoc `json:"findings"`
	Boot     *BootDoc     `json:"next_boot,omitempty"` // absent where the draft has no part in it
	Steps    []StepDoc    `json:"steps"`
	Undo     string       `json:"undo" of:"undo"`
}

// BootDoc is how the next boot changes.
type BootDoc struct {
	Before     string        `json:"before" of:"verdict"`
	After      string        `json:"after" of:"verdict"`
	BeforeText string        `json:"before_text"` // with how long it takes, or where it ends
	AfterText  string        `json:"after_text"`
	Lines      []BootLineDoc `json:"lines"`
}

// BootLineDoc is a line of fstab, or a unit, of which something else becomes.
type BootLineDoc struct {
	Line       int    `json:"line"` // 0 for a unit
	UnitFile   string `json:"unit_file,omitempty"`
	Spec       string `json:"spec"`
	MountPoint string `json:"mount_point"`
	Device     string `json:"device,omitempty"`
	Before     string `json:"before,omitempty" of:"outcome"` // absent where it was not there
	After      string `json:"after" of:"outcome"`
	Text       string `json:"text"`
}

func bootDocument(c *draft.BootChange) *BootDoc {
	d := &BootDoc{verdicts()[c.Was], verdicts()[c.Is], c.Before, c.After, []BootLineDoc{}}
	for _, l := range c.Lines {
		swap := l.Unit.Entry.IsSwap()
		d.Lines = append(d.Lines, BootLineDoc{
			l.Number, l.File, l.Spec, placed(l.Dir, swap), l.Device,
			outcomes()[l.Before.Words(swap)], outcomes()[l.Outcome.Words(swap)], l.String(),
		})
	}
	return d
}

// ValueDoc is a setting as it was decided.
type ValueDoc struct {
	Key   string `json:"key"`
	Value string `json:"value"`
	From  string `json:"from"` // default, hint of the device, configuration or asked
}

// FileDoc is a text file whose lines change.
type FileDoc struct {
	Path    string   `json:"path"`
	Removed []string `json:"removed_lines"`
	Added   []string `json:"added_lines"`
}

// LossDoc is one thing that is destroyed.
type LossDoc struct {
	Device string `json:"device"`
	What   string `json:"what"`
	Lose   string `json:"lose"`
}

// StepDoc is one step.
type StepDoc struct {
	Kind   string `json:"kind" of:"step"`
	Title  string `json:"title"`
	Bytes  int64  `json:"written_bytes,omitempty"`
	Fenced bool   `json:"fenced,omitempty"`
}

func draftDocument(d *draft.Draft, r Result) DraftDoc {
	v := &inventory.Inventory{} // what uses it now is not the draft's
	doc := DraftDoc{Head: head("draft"), Reverse: []WayDoc{}, Changed: r.Changed, Stored: r.Stored, Deed: r.Deed,
		Later: orEmpty(r.Later), Remarks: orEmpty(slices.Concat(d.Remarks, r.Remarks)), Machine: d.Machine, Title: d.Title,
		Before: devices(v, d.Before, d.Called), After: devices(v, d.After, d.Called), Facts: []FactDoc{},
		Settings: []ValueDoc{}, Notes: orEmpty(d.Notes()), Warnings: orEmpty(d.Warnings()),
		Losses: []LossDoc{}, Would: !d.Empty(), Results: resultDocs(d.Results), Layers: layerDocs(d.Layers),
		Needs: needDocs(r.Needs), Files: []FileDoc{}, Findings: findingDocs(d.Findings), Steps: []StepDoc{}, Undo: string(d.Undo)}
	if r.Stored {
		doc.Code = d.Code
	}
	if d.Boot != nil {
		doc.Boot = bootDocument(d.Boot)
	}
	for _, part := range d.Parts {
		for _, s := range part.Values {
			doc.Settings = append(doc.Settings, ValueDoc{s.Key, s.Word, string(s.By)})
		}
	}
	for _, f := range d.Facts() {
		doc.Facts = append(doc.Facts, FactDoc{f.Name, f.Value})
	}
	for _, l := range d.Lines {
		doc.Files = append(doc.Files, FileDoc{l.Path, orEmpty(l.Removed), orEmpty(l.Added)})
	}
	for _, l := range d.Losses {
		doc.Losses = append(doc.Losses, LossDoc{l.Node, l.What, l.Name})
	}
	for _, s := range d.Steps {
		doc.Steps = append(doc.Steps, stepDocument(s))
	}
	return doc
}

func stepDocument(s draft.Step) StepDoc {
	shown := deed.ShownOf(s)
	return StepDoc{Kind: string(s.Kind()), Title: s.Title, Bytes: int64(shown.Bytes), Fenced: shown.Fenced}
}

// Draft is a change that is not written yet.
type Draft struct {
	*draft.Draft
	Stored bool         // for a later commit
	Steps  bool         // with each step, its reasons and every figure
	Needs  []draft.Need // without which it is not committed
}

// Document implements Report.
func (r Draft) Document() any {
	return draftDocument(r.Draft, Result{Stored: r.Stored, Needs: r.Needs})
}

// Words implements Report.
func (r Draft) Words(p *Printer) {
	d := r.Draft
	if p.Quiet {
		return
	}
	const narrow = 24 // columns that a machine may take from the title
	if text.StringWidth(d.Machine) > narrow {
		p.wrap(0, "", p.paint(Strong, visible(d.Machine)))
		p.wrap(0, "", p.styled(visible(d.Title), layerSizes(d)...))
	} else {
		p.wrap(0, p.paint(Strong, visible(d.Machine))+"  ", p.styled(visible(d.Title), layerSizes(d)...))
	}
	if d.Empty() {
		p.wrap(0, "nothing to do: ", p.settled(d))
	}
	for _, remark := range d.Remarks {
		p.wrap(2, "note: ", visible(remark))
	}
	if d.Empty() {
		return
	}
	p.pictures(d)
	p.changes(d, r.Steps)
	for i, part := range d.Parts {
		p.part(part, i > 0, r.Steps, layerSizes(d))
	}
	if len(d.Findings) > 0 && r.Steps {
		p.printf("\nafterwards fundus verify would find:\n")
		p.findings(d.Findings)
	} else {
		p.briefly(d.Findings)
	}
	if !slices.ContainsFunc(d.Findings, func(f finding.Finding) bool { return f.ID == "boot-worse" }) { // which says so
		p.nextBoot(d.Boot)
	}
	if r.Steps {
		p.steps(d)
	}
	p.ending(d)
	p.needs(r.Needs)
}

// layerSizes are those that a change of size goes from and to.
func layerSizes(d *draft.Draft) (out []quantity.Bytes) {
	for _, l := range d.Layers {
		out = append(out, l.From, l.To)
	}
	return out
}

// part shows the figures of one of the requests that the draft is made of; those behind
// the first say what they are. Figures that are the same each time, and settings that
// nobody chose, are shown with the steps alone.
func (p *Printer) part(d draft.Part, titled, whole bool, sizes []quantity.Bytes) {
	var rows [][]string
	facts := d.Facts
	if whole {
		facts = slices.Concat(d.Facts, d.Details)
	}
	for _, f := range facts {
		rows = append(rows, []string{f.Name, p.styled(visible(f.Value), sizes...)})
	}
	if d.Under > 0 || len(rows)+len(d.Notes)+len(d.Warnings) > 0 && titled {
		p.printf("%s\n", visible(d.Title))
	}
	notes := d.Notes
	if d.Idle {
		why := "it is so already"
		if len(notes) > 0 {
			why, notes = visible(notes[0]), notes[1:]
		}
		p.wrap(2, "nothing to do: ", why)
	}
	p.facts(rows)
	p.values(d, whole)
	for _, n := range notes {
		p.wrap(2, "note: ", visible(n))
	}
	for _, w := range d.Warnings {
		p.wrap(2, "warning: ", visible(w))
	}
}

// nextBoot says how the next boot changes.
func (p *Printer) nextBoot(c *draft.BootChange) {
	switch {
	case c == nil:
		return
	case c.Before == c.After:
		p.wrap(2, "next boot: ", visible(c.After)+", as before")
	default:
		p.wrap(2, "next boot: ", visible(c.After)+"; as it is now: "+visible(c.Before))
	}
	for _, l := range c.Lines {
		p.wrap(4, "", visible(l.String()))
	}
}

// briefly lists findings, one line each where the terminal is wide enough.
func (p *Printer) briefly(list []finding.Finding) {
	for _, f := range list {
		p.wrap(2, fmt.Sprintf("afterwards %s: ", f.Severity), visible(fmt.Sprintf("%s: %s (%s)", f.Thing, f.Text, f.ID)))
	}
}

// values lists the settings with where each is from: whoever reads a draft sees what
// was chosen without being asked for.
func (p *Printer) values(d draft.Part, whole bool) {
	var rows [][]string
	for _, s := range d.Values {
		from := string(s.By)
		if !s.By.Chosen() {
			if from = p.paint(Free, from); !whole {
				continue
			}
		}
		rows = append(rows, []string{s.Key, p.readable(s.Word), from})
	}
	if len(rows) > 0 {
		p.columns(2, []string{"setting", "value", "from"}, rows)
	}
}

// changes shows lines of text files; of a unit that comes or goes whole, what it says in a line.
func (p *Printer) changes(d *draft.Draft, whole bool) {
	for _, c := range d.Lines {
		if words := unitWords(c); words != "" && !whole {
			mark, state := comes, Changed
			if len(c.Added) == 0 {
				mark, state = goes, Lost
			}
			p.wrap(0, "", p.paint(Strong, visible(c.Path)))
			p.wrap(2, text.Pad(mark, 7, ' '), p.paint(state, visible(words)))
			continue
		}
		p.printf("%s\n", p.paint(Strong, visible(c.Path)))
		for _, l := range c.Removed {
			p.wrap(2, "goes   ", p.paint(Lost, visible(blanks(l))))
		}
		for _, l := range c.Added {
			p.wrap(2, "comes  ", p.paint(Changed, visible(blanks(l))))
		}
	}
}

// unitWords is what a unit of systemd says, of which all lines come or all go; "" for another file.
func unitWords(c draft.LineChange) string {
	if !strings.Contains(c.Path, "/systemd/system/") || len(c.Added) > 0 == (len(c.Removed) > 0) {
		return ""
	}
	said := map[string]string{}
	for _, l := range append(slices.Clone(c.Added), c.Removed...) {
		if key, value, is := strings.Cut(l, "="); is {
			said[key] = value
		}
	}
	var words []string
	for _, k := range []struct{ key, lead string }{
		{"What", ""}, {"Where", "at "}, {"Type", ""}, {"Options", "with "}, {"Priority", "priority "},
		{"TimeoutIdleSec", "idle for "}, {"JobRunningTimeoutSec", "waited for "},
	} {
		if value := said[k.key]; value != "" {
			words = append(words, k.lead+value)
		}
	}
	return strings.Join(words, ", ")
}

func (p *Printer) steps(d *draft.Draft) {
	p.printf("\nwhat will be done\n")
	for i, s := range d.Steps {
		title := visible(s.Title)
		w := deed.ShownOf(s)
		if w.Device != "" {
			title += fmt.Sprintf(": %v on %s", w.Bytes, visible(w.Device))
		}
		if w.Phases > 1 {
			title += fmt.Sprintf(", in %d phases with a sync between", w.Phases)
		}
		if w.Fenced {
			title += ", with a fence"
		}
		if s.NoWayBack {
			title += "; from here on there is no way back"
		}
		p.wrap(2, fmt.Sprintf("%d. ", i+1), title)
	}
}

// undoWords are those of a grade.
func undoWords(g draft.Grade, last int) string {
	switch g {
	case draft.Nothing:
		return "nothing to undo"
	case draft.UntilChanged:
		return "can be undone until the file is changed"
	case draft.Exactly:
		return "can be undone until something else writes there"
	case draft.ByName:
		return "can be undone whole, once what is on it by then is named"
	case draft.UntilMounted:
		return "can be undone until it is mounted for writing"
	case draft.ContentOnly:
		return "contents can be undone; free space is not restored"
	case draft.NotAfter:
		return fmt.Sprintf("cannot be undone after step %d has begun; a failure after it is completed instead", last)
	}
	return "cannot be undone: no old contents are kept, and an interrupted commit can only be completed"
}

// heldSizes are those of which a loss on the device may speak.
func heldSizes(d *draft.Draft, device string) (sizes []quantity.Bytes) {
	for _, n := range d.Before {
		if n.Name != device {
			continue
		}
		sizes = append(sizes, n.Size)
		for _, c := range n.Contents {
			sizes = append(sizes, c.Used, c.Size)
		}
	}
	return sizes
}

// ending says how far it can be taken back and what is lost: the last lines
// before a question.
func (p *Printer) ending(d *draft.Draft) {
	written := quantity.Bytes(0)
	for _, s := range d.Steps {
		written += deed.ShownOf(s).Bytes
	}
	writes := ""
	if written > 0 {
		writes = fmt.Sprintf("writes %s; ", p.sum(written))
	}
	p.wrap(0, "", writes+undoWords(d.Undo, d.LastStep))
	for _, l := range d.Losses {
		p.wrap(0, p.paint(Lost, "LOST: "), p.paint(Lost, fmt.Sprintf("%s: %s", visible(l.Node), p.styled(visible(l.What), heldSizes(d, l.Node)...))))
		for _, n := range d.Before {
			if n.Name == l.Node && n.Parent == "" && n.Unrecognised() {
				p.printf("perhaps a lost partition table:\n")
				p.Next(way.TableRepair(l.Node, "--search"))
			}
		}
	}
}

// Committed is what was done, and how to take it back.
type Committed struct {
	*draft.Draft
	Deed *deed.Deed
}

// Document implements Report.
func (r Committed) Document() any {
	return draftDocument(r.Draft, Result{Changed: true, Deed: r.Deed.ID, Later: r.Deed.Later, Remarks: r.Deed.Remarks})
}

// Words implements Report.
func (r Committed) Words(p *Printer) {
	d, done, deedID := r.Draft, r.Deed, r.Deed.ID
	undo := way.Undo(way.N(done.Number)).Line() + " takes it back"
	if d.Request.Verb == "undo" {
		undo = way.Undo(way.N(done.Number)).Line() + " brings it back"
	}
	if !done.Reversible() {
		undo = "there is no undo"
	}
	p.printf("%s\n", p.paint(InUse, "done: "+visible(d.Title)))
	p.printf("deed %s; %s\n", deedID, undo)
	for _, r := range done.Remarks {
		p.wrap(2, "note: ", visible(r))
	}
	if len(done.Later) == 0 {
		return
	}
	p.printf("%s\n", p.paint(Changed, "the disk is as it should be; this machine takes it up only when it boots:"))
	for _, l := range done.Later {
		p.wrap(2, "later: ", visible(l))
	}
}

// Result is what became of a draft.
type Result struct {
	Changed, Stored bool
	Deed            string
	Later           []string // what only the next boot brings about
	Remarks         []string
	Needs           []draft.Need
}

// needs lists what is needed to go ahead, all at once.
func (p *Printer) needs(list []draft.Need) {
	var options []string
	for _, n := range list {
		options = append(options, visible(n.Typed()))
		if !strings.HasPrefix(n.Option, "--lose=") { // what is lost was said
			p.wrap(0, "", visible(n.Why))
		}
	}
	if len(options) > 0 {
		p.wrap(0, "needed to go ahead: ", strings.Join(options, " "))
	}
}

// Stored says how to go on with a stored draft. What is lost is not named here: a line that
// can be copied destroys nothing.
func (p *Printer) Stored(d *draft.Draft) {
	if p.JSON {
		return
	}
	words := "nothing is written yet; to go ahead:"
	if len(d.Losses) > 0 {
		words = "nothing is written yet; to go ahead, add what is needed to:"
	}
	p.printf("%s\n", words)
	p.Next(way.Commit(d.Code))
}

// Question asks for what confirms the draft, and gives the words that will do: of the i-th
// of the open losses its name, where nothing is lost yes, or the draft's code. It
// is the last line before the answer, so that it says machine, device and loss once more.
func (p *Printer) Question(w io.Writer, d *draft.Draft, open []draft.Loss, i int) (accept []string) {
	prompt := ""
	if len(open) == 0 {
		accept = []string{"yes", d.Code}
		prompt = fmt.Sprintf("%s%s: type yes to go ahead, anything else to stop: ", visible(d.Machine), p.where(d))
	} else {
		l := open[i]
		accept = []string{cmp.Or(l.Name, d.Code)}
		count := ""
		if len(open) > 1 {
			count = fmt.Sprintf("%d of %d: ", i+1, len(open))
		}
		prompt = fmt.Sprintf("%s%s: %stype %s to destroy %s (%s), anything else to stop: ", visible(d.Machine),
			p.where(d), count, visible(accept[0]), visible(l.Node), p.styled(visible(l.What), heldSizes(d, l.Node)...))
	}
	fmt.Fprint(w, p.plain(p.paint(Strong, folded(prompt, p.Width))))
	return accept
}

// where names the disks that are written, with their serial numbers.
func (p *Printer) where(d *draft.Draft) string {
	var words []string
	for _, t := range d.Written() {
		disk, _ := family(d.Before, t.Name).Node(t.Name)
		word := visible(t.Name)
		if disk.Hardware.Serial != "" {
			word += " (" + visible(disk.Hardware.Serial) + ")"
		}
		words = append(words, word)
	}
	if len(words) == 0 {
		return ""
	}
	return ", " + strings.Join(words, ", ")
}

// folded breaks a prompt at blanks, so that no word of it is split by the terminal.
func folded(prompt string, width int) string {
	var b strings.Builder
	column := 0
	for word := range strings.SplitSeq(strings.TrimRight(prompt, " "), " ") {
		n := utf8.RuneCountInString(word)
		switch {
		case column == 0:
		case column+1+n >= width:
			b.WriteString("\n  ")
			column = 2
		default:
			b.WriteByte(' ')
			column++
		}
		b.WriteString(word)
		column += n
	}
	return b.String() + " "
}

// Used is what was changed in the running system, and how to reverse it.
type Used struct {
	*draft.Draft
	Reverse []way.Step // in their order
	Still   []string   // what is in the way of more all the same
}

// Document implements Report.
func (r Used) Document() any {
	doc := draftDocument(r.Draft, Result{Changed: !r.Empty()})
	for _, s := range r.Reverse {
		doc.Reverse = append(doc.Reverse, wayDoc(s))
	}
	doc.Remarks = append(doc.Remarks, r.Still...)
	return doc
}

// settled is what a draft with nothing to do says of how things are.
func (p *Printer) settled(d *draft.Draft) string {
	for _, part := range d.Parts {
		if len(part.Notes) > 0 {
			return visible(part.Notes[0])
		}
	}
	for _, r := range d.Results {
		words := thereAlready(r)
		if n, ok := family(d.After, r.Device).Node(r.Device); ok && d.Request.Verb == "resize" {
			words = fmt.Sprintf("%s has %s already", r.Device, p.sizeAlone(n))
		}
		if words != "" {
			return visible(words)
		}
	}
	return "it is so already"
}

// thereAlready says what of a result is there.
func thereAlready(r draft.Result) string {
	switch r.Role {
	case draft.RoleTable:
		return fmt.Sprintf("%s has a partition table (%s) already", r.Device, strings.ToUpper(r.Scheme))
	case draft.RolePartition:
		return r.Device + " is there already, as asked"
	case draft.RoleFileSystem:
		return fmt.Sprintf("%s holds %s already", r.Device, strings.TrimSpace(r.Kind+" "+r.Label))
	case draft.RoleSwap:
		if r.On {
			return cmp.Or(r.Device, r.Path) + " is on already"
		}
		return fmt.Sprintf("%s holds %s already", cmp.Or(r.Device, r.Path), strings.TrimSpace(r.Kind+" "+r.Label))
	case draft.RoleLine:
		return fmt.Sprintf("line %d of %s says so already", r.Line, r.Path)
	case draft.RoleMount:
		return fmt.Sprintf("%s is mounted at %s already", cmp.Or(r.Device, "it"), r.Place)
	case draft.RoleUnit:
		return r.Path + " says so already"
	}
	return ""
}

// Words implements Report.
func (r Used) Words(p *Printer) {
	if r.Empty() {
		p.wrap(0, "nothing to do: ", p.settled(r.Draft))
		return
	}
	p.printf("%s\n", p.paint(InUse, "done: "+visible(r.Title)))
	for _, n := range append(r.Notes(), r.Still...) {
		p.wrap(2, "note: ", visible(n))
	}
	if len(r.Reverse) > 0 {
		var lines []string
		for _, s := range r.Reverse {
			lines = append(lines, s.Line())
		}
		p.printf("to reverse it: %s\n", visible(strings.Join(lines, " && ")))
	}
}
