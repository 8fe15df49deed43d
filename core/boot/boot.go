// Package boot works through what the next boot would do with the machine's
// fstab and with the units that people keep beside it, on an inventory alone, and says whether
// it comes up.
//
// It goes by what systemd makes of each line (fstab.Read), not by how the line looks. What is
// required by local-fs.target and does not come ends in the emergency shell; what is only
// wanted, or belongs to the network, does not hold up the boot; a missing device is waited
// for; an automount waits at its first access. What is not modelled is unknown, with the
// reason.
//
// Source: systemd.mount(5), systemd.swap(5), systemd-fstab-generator(8).
package boot

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"fundus/core/inventory"
	"fundus/core/text/fstab"
)

// Outcome is what becomes of one line, from the best to the worst.
type Outcome string

// The outcomes.
const (
	Fine      Outcome = "mounted"
	Waiting   Outcome = "not at boot"         // noauto
	Remote    Outcome = "left to the network" // it stops no boot
	Passed    Outcome = "passed over"         // no unit is made of it, and no boot depends on it
	Unknown   Outcome = "unknown"
	Left      Outcome = "left out" // the boot goes on without it
	Unread    Outcome = "not mounted"
	Delay     Outcome = "delays the boot"
	Emergency Outcome = "emergency shell"
)

func (o Outcome) rank() int {
	return slices.Index([]Outcome{Fine, Waiting, Remote, Passed, Unknown, Left, Unread, Delay, Emergency}, o)
}

// Line is the result of one line of fstab, or of a unit.
type Line struct {
	Number  int
	File    string // of a unit, in place of a line's number
	Spec    string
	Dir     string
	Kind    string
	Device  string // name of the node, "" where there is none
	Outcome Outcome
	Reason  string
	NoFail  bool
	Options string
	Pass    int
	Raw     string // as it stands
	Unit    fstab.Unit
	Masked  bool // nothing starts its unit
}

// Report is the rehearsal.
type Report struct {
	Lines   []Line
	Verdict Verdict
}

// Verdict is the whole boot's result.
type Verdict string

// The verdicts.
const (
	ComesUp    Verdict = "comes up"
	Without    Verdict = "comes up without mounts that fstab asks for"
	WithDelays Verdict = "comes up with delays"
	Shell      Verdict = "emergency shell"
)

// DefaultTimeout is how long systemd waits for a device.
const DefaultTimeout = "90s"

// Rehearse goes through the fstab of the inventory.
func Rehearse(v *inventory.Inventory) Report {
	m := &machine{v: v, by: v.Resolver(), units: v.Units()}
	table, own := v.Fstab(), m.own()
	var r Report
	for _, u := range m.units {
		e := u.Entry
		l, _ := table.Line(u.Line)
		line := Line{Number: u.Line, Spec: e.Spec, Dir: cmp.Or(u.Where, e.Dir), Kind: e.Type, NoFail: e.NoFail(), Options: strings.Join(e.Options, ","), Pass: e.Pass, Raw: l.Raw, Unit: u}
		if !m.instead(&line, own) {
			m.rehearse(&line)
		}
		r.Lines = append(r.Lines, line)
	}
	r.Lines = append(r.Lines, m.fromUnits(own, r.Lines)...)
	nested(r.Lines)
	masked(r.Lines)
	worst := Fine
	for _, l := range r.Lines {
		if l.Outcome.rank() > worst.rank() {
			worst = l.Outcome
		}
	}
	switch worst {
	case Emergency:
		r.Verdict = Shell
	case Delay:
		r.Verdict = WithDelays
	case Unread:
		r.Verdict = Without
	default:
		r.Verdict = ComesUp
	}
	return r
}

// machine is what the lines are held against.
type machine struct {
	v     *inventory.Inventory
	by    *inventory.Resolver
	units []fstab.Unit
}

// at says where it stands.
func (l Line) at() string {
	if l.File != "" {
		return l.File
	}
	return fmt.Sprintf("line %d", l.Number)
}

func (l *Line) is(o Outcome, format string, args ...any) {
	l.Outcome, l.Reason = o, fmt.Sprintf(format, args...)
}

// fails is what a mount that cannot be made means for the boot.
func (l *Line) fails(format string, args ...any) {
	o := Emergency
	switch u := l.Unit; {
	case u.Automount:
		o = Left
		format += "; the boot goes on, the first access fails"
	case u.Entry.IsSwap(), u.Tie != fstab.Required:
		o = Left
	case !slices.ContainsFunc(u.By, func(p fstab.Pull) bool { return p.Target == "local-fs.target" }):
		o = Left
		format += "; the boot goes on without it"
	}
	l.is(o, format, args...)
}

// A wrong "comes up" costs more than a refusal to say: what is not known, such as a kind that
// is not modelled, is unknown, with the reason, and no line is assumed to work.
func (m *machine) rehearse(l *Line) {
	u := l.Unit
	switch {
	case u.None == fstab.Dies, u.None == fstab.Dead:
		l.is(Unread, "%s", u.None)
	case u.None == fstab.NoName, u.None == fstab.NoNeed:
		l.is(Unread, "%s", u.None)
	case u.None != "":
		l.is(Passed, "%s", u.None)
	case u.Tie == fstab.Untied && !u.Automount:
		l.is(Waiting, "noauto: mounted only when asked for")
	case fstab.IsNode(u.What):
		m.device(l)
	case u.Entry.Network():
		l.is(Remote, "the boot does not depend on it")
	default:
		m.withoutDevice(l)
	}
}

// nested lets what lies below a mount that fails fail too: then a parent with nofail is
// required in effect.
func nested(lines []Line) {
	for changed := true; changed; {
		changed = false
		for i := range lines {
			l := &lines[i]
			for _, p := range lines {
				lost := p.Outcome == Left && !p.Unit.Automount || p.Outcome == Emergency
				if !lost || p.Unit.Where == "" || l.Outcome != Fine || !strings.HasPrefix(l.Unit.Where, strings.TrimSuffix(p.Unit.Where, "/")+"/") {
					continue
				}
				l.fails("it lies below %s, which is not mounted (%s)", p.Unit.Where, p.at())
				changed = true
			}
		}
	}
}
