package boot

import (
	"fmt"
	"slices"
	"time"

	"fundus/core/text/fstab"
)

// Outcome is what becomes of one line or unit, from the best to the worst.
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

// On is what becomes of an area of swap that the kernel uses: nothing of it is mounted.
const On = "on"

// Words is the outcome as it is said of a line, which may be of swap.
func (o Outcome) Words(swap bool) string {
	if swap && o == Fine {
		return On
	}
	return string(o)
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
	Raw     string        // as it stands
	Wait    time.Duration // for which the boot is held up by it; Forever without an end
	First   bool          // it is what the verdict comes of
	Unit    fstab.Unit
}

// Report is the rehearsal.
type Report struct {
	Verdict Verdict
	Why     string        // where no line is the cause
	Delay   time.Duration // until the boot has come up, or ends; Forever: it never does
	Root    string        // where the root is found, in words; "" where nothing says it
	RootOn  string        // the name of its node; "" where that is not known
	Lines   []Line
	Notes   []string // what goes along with it
	// Unforeseen are generators of units that are not modelled.
	Unforeseen []string
}

// Verdict is the whole boot's result.
type Verdict string

// The verdicts, from the best to the worst.
const (
	ComesUp    Verdict = "comes up"
	WithDelays Verdict = "comes up with delays"
	Without    Verdict = "comes up without mounts that fstab asks for"
	Untold     Verdict = "unknown"
	Hangs      Verdict = "waits for ever"
	Shell      Verdict = "emergency shell"
	NoRoot     Verdict = "does not find its root"
)

// Rank orders verdicts: a worse one has a higher rank.
func (v Verdict) Rank() int {
	return slices.Index([]Verdict{ComesUp, WithDelays, Without, Untold, Hangs, Shell, NoRoot}, v)
}

// Rank orders outcomes: a worse one has a higher rank.
func (o Outcome) Rank() int {
	return slices.Index([]Outcome{Fine, Waiting, Remote, Passed, Unknown, Left, Unread, Delay, Emergency}, o)
}

// At says where it stands.
func (l Line) At() string {
	if l.File != "" {
		return l.File
	}
	return fmt.Sprintf("line %d", l.Number)
}

// is settles what becomes of the line, and why.
func (l *Line) is(o Outcome, format string, args ...any) {
	l.Outcome, l.Reason = o, fmt.Sprintf(format, args...)
}

// Seconds writes a span as systemd does in short.
func Seconds(d time.Duration) string {
	switch {
	case d == fstab.Forever:
		return "for ever"
	case d >= time.Minute && d%time.Minute == 0 && d != time.Minute:
		return fmt.Sprintf("%dmin", d/time.Minute)
	case d%time.Second == 0:
		return fmt.Sprintf("%ds", d/time.Second)
	}
	return d.String()
}
