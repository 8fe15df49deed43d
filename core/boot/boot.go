package boot

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"fundus/core/inventory"
	"fundus/core/text/crypttab"
	"fundus/core/text/fstab"
	"fundus/core/text/unit"
)

// Rehearse goes through the next boot of the machine, as it starts by itself.
func Rehearse(v *inventory.Inventory) Report { return RehearseFrom(v, Next(v)) }

// RehearseFrom goes through the boot that starts so.
func RehearseFrom(v *inventory.Inventory, s Start) Report {
	return prepared(v, s).walked()
}

// prepared is the graph of a boot before anything is started.
func prepared(v *inventory.Inventory, s Start) *machine {
	v, hidden := seen(v, s.Words)
	m := &machine{
		v:      v,
		hidden: hidden,
		by:     v.Resolver(),
		lines:  v.Units(),
		facts:  factsOf(v, s),
		crypt:  crypttab.Entries(v.Files[crypttab.Path].Data),
	}
	m.rootFound = m.root()
	m.graph = build(m, m.load())
	return m
}

// walked goes through the graph, and says what comes of it.
func (m *machine) walked() Report {
	g := m.graph
	r := Report{Root: m.rootFound.words, RootOn: m.rootFound.node, Unforeseen: m.unforeseen()}
	goal, asked := m.goal(g)
	if goal != nil {
		g.walk(goal)
		g.accesses()
	}
	j := &judge{m: m, g: g, goal: goal, blamed: map[*node]bool{}, holding: map[*node]bool{}}
	j.causes()
	r.Lines = append(j.ofLines(), j.ofUnits()...)
	j.notes(&r)
	j.verdict(&r, asked)
	return r
}

// judge makes of the walk what becomes of lines, units and the whole boot.
type judge struct {
	m       *machine
	g       *graph
	goal    *node
	blamed  map[*node]bool // failed, and local-fs.target with them
	holding map[*node]bool // what the goal waits for
}

func (j *judge) causes() {
	if fs := j.g.node(localFS); fs.job && fs.state == failed {
		fs.blame(j.blamed)
	}
	if j.goal != nil {
		j.goal.holders(j.holding)
	}
	if s := j.g.node("systemd-user-sessions.service"); s.job { // who logs in waits for it
		s.holders(j.holding)
	}
}

// verdict is the whole boot's.
func (j *judge) verdict(r *Report, asked string) {
	fs, root := j.g.node(localFS), j.m.rootFound
	missing := slices.ContainsFunc(r.Lines, Line.Missing)
	switch {
	case root.verdict != "":
		r.Verdict, r.Why, r.Notes = root.verdict, root.why, nil
		for i := range r.Lines {
			if root.verdict == NoRoot {
				r.Lines[i].is(Unread, "the boot does not get that far")
			}
		}
		return
	case asked != "":
		r.Verdict, r.Why = Shell, asked
		return
	case j.goal.none() || fs.none():
		r.Verdict, r.Why = Untold, j.goal.name+" cannot be started: "+cmp.Or(j.goal.cannot, fs.cannot)
		return
	case fs.job && fs.state == failed && fs.end < fstab.Forever:
		r.Verdict, r.Delay = Shell, fs.end
		j.first(r, func(l Line) bool { return l.Outcome == Emergency })
		return
	}
	r.Delay = j.delay()
	slow := j.m.resumes()
	switch {
	case r.Delay == fstab.Forever:
		r.Verdict = Hangs
	case fs.job && fs.state == unsure && !j.byChance(fs):
		r.Verdict = Untold
	case missing:
		r.Verdict = Without
	case r.Delay > 0:
		r.Verdict = WithDelays
	case slow != "":
		r.Verdict = WithDelays // as a note says
	default:
		r.Verdict = ComesUp
	}
	if j.goal.state == failed {
		r.Verdict = worst(r.Verdict, Without)
		r.Why = j.goal.name + " is not reached: " + j.unreached()
	}
	if why := j.m.staysReadOnly(); why != "" && r.Why == "" {
		r.Verdict, r.Why = worst(r.Verdict, Without), why
	}
	if why := j.m.ownPlace(); why != "" && r.Verdict.Rank() < Untold.Rank() {
		r.Verdict, r.Why = Untold, why
	}
	if r.Verdict == Untold && r.Why == "" {
		needed := func(l Line) bool { return l.Outcome == Unknown && !l.NoFail && !l.Unit.Automount }
		_ = j.first(r, func(l Line) bool { return needed(l) && !l.Unit.Entry.Network() }) || j.first(r, needed)
	}
	if r.Delay > 0 && !j.first(r, func(l Line) bool { return l.Outcome == Delay && l.Wait == r.Delay }) && r.Why == "" {
		r.Why = j.longest(r.Delay)
	}
}

// worst is the worse of two verdicts.
func worst(a, b Verdict) Verdict {
	if b.Rank() > a.Rank() {
		return b
	}
	return a
}

// byChance reports whether nothing is unknown but what systemd pulls in: whatever that is, it
// comes.
func (j *judge) byChance(fs *node) bool {
	return !slices.ContainsFunc(fs.requires, func(r *node) bool {
		return r.state != done && r.chance == "" && !r.none() ||
			r.chance != "" && r.doubt
	})
}

// delay is how long the boot is held up.
func (j *judge) delay() (d time.Duration) {
	for n := range j.holding {
		d = max(d, n.end)
	}
	return d
}

// first marks the line that the verdict comes of: of those that it may be, the one that ends
// first.
func (j *judge) first(r *Report, may func(Line) bool) bool {
	at := -1
	for i, l := range r.Lines {
		if may(l) && (at < 0 || l.Wait < r.Lines[at].Wait) {
			at = i
		}
	}
	if at >= 0 {
		r.Lines[at].First = true
	}
	return at >= 0
}

// unreached says by what mount the goal is not reached.
func (j *judge) unreached() string {
	for _, n := range j.goal.chain()[1:] {
		if unit.Suffix(n.name) == ".mount" {
			return "it needs " + j.place(n) + ", and " + j.why(n)
		}
	}
	return j.why(j.goal)
}

// longest says what is waited for so long where no line is about it.
func (j *judge) longest(d time.Duration) string {
	for _, name := range j.g.names() {
		if n := j.g.nodes[name]; j.holding[n] && n.end == d && n.state == failed && unit.Suffix(name) == ".service" {
			return name + ": " + j.why(n)
		}
	}
	return ""
}

// Missing reports whether it is a mount that is asked for and does not come, though the boot may
// go on.
func (l Line) Missing() bool {
	asked := !l.NoFail && !l.Unit.Automount && !l.Unit.Entry.IsSwap()
	return l.Outcome == Unread || asked && (l.Outcome == Left || l.Outcome == Delay)
}

// notes are what goes along with the boot beside the lines.
func (j *judge) notes(r *Report) {
	for _, t := range j.m.typed {
		switch n := j.g.node(t.unit); {
		case n.job && n.chance != "":
			r.Notes = append(r.Notes, t.node+" is found by its type; whether it is mounted at "+t.where+" is chance")
		case n.job && n.state == done:
			r.Notes = append(r.Notes, t.note())
		}
	}
	for _, name := range j.g.names() {
		n := j.g.nodes[name]
		if unit.Suffix(name) != ".service" || !n.job || n.state != failed || n.loaded == nil || strings.HasPrefix(name, "systemd-") {
			continue
		}
		if from := n.from; from != nil && from.name != sysinit && from.name != basic {
			r.Notes = append(r.Notes, name+" does not start: it needs "+j.place(from))
		}
	}
	if slow := j.m.resumes(); slow != "" {
		r.Notes = append(r.Notes, slow)
	}
}
