package boot

import (
	"fmt"
	"slices"

	"fundus/core/finding"
	"fundus/core/text/fstab"
	"fundus/core/way"
)

// String says in one line whether the boot comes up, and whether all of it can be told.
func (r Report) String() (words string) {
	n := map[Outcome]int{}
	missing := 0
	for _, l := range r.Lines {
		n[l.Outcome]++
		if l.Missing() {
			missing++
		}
	}
	after := ""
	if r.Delay > 0 && r.Delay != fstab.Forever {
		after = " after " + Seconds(r.Delay)
	}
	left := n[Left]
	switch r.Verdict {
	case Shell:
		words = "ends in the emergency shell" + after
		if n[Emergency] > 0 {
			words += " (" + count(n[Emergency], "line") + ")"
		}
	case WithDelays:
		words = string(r.Verdict)
		if after != "" {
			words = "comes up" + after + " of waiting"
			if n[Delay] > 0 {
				words += " (" + count(n[Delay], "line") + ")"
			}
		}
	case Without:
		if missing == 0 {
			words = "comes up, but not all of it" + after
			break
		}
		words, left = "comes up without "+count(missing, "mount")+" that fstab asks for"+after, 0
	case Untold:
		words = "unknown whether it comes up"
	case ComesUp:
		words = string(r.Verdict)
		if n[Unknown] > 0 {
			words += " as far as can be told"
		}
	default:
		words = string(r.Verdict)
	}
	if left > 0 {
		words += "; without " + count(left, "line")
	}
	if n[Unknown] > 0 {
		words += "; " + count(n[Unknown], "line") + " cannot be told"
	}
	return words
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// Thing is what a finding on the whole boot is about.
const Thing = "the next boot"

// Change is how one boot differs from another one.
type Change struct {
	Before, After string // in words
	Lines         []LineChange
}

// LineChange is a line, or a unit, of which something else becomes.
type LineChange struct {
	Line           // as it is afterwards
	Before Outcome // "" where it was not there
}

// place is a line's mount point, or the area of swap that it turns on.
func (l Line) place() string {
	if l.Unit.Entry.IsSwap() {
		return "swap " + l.Spec
	}
	return l.Dir
}

// String says it in one line.
func (c LineChange) String() string {
	swap := c.Unit.Entry.IsSwap()
	words := fmt.Sprintf("%s (%s): %s", c.place(), c.At(), c.Outcome.Words(swap))
	if c.Before != "" {
		words += "; now: " + c.Before.Words(swap)
	}
	return words
}

// Compare says what becomes otherwise in a boot, with a finding where the whole is worse.
func Compare(was, is Report) (c Change, worse []finding.Finding) {
	c = Change{Before: was.String(), After: is.String()}
	// Lines have no identity of their own: the same device at the same place in the same file is
	// the same line, and several alike are taken in their order.
	old := map[string][]Line{}
	key := func(l Line) string { return l.File + "\n" + l.Spec + "\n" + l.Dir }
	for _, l := range was.Lines {
		old[key(l)] = append(old[key(l)], l)
	}
	for _, l := range is.Lines {
		before := Outcome("")
		if list := old[key(l)]; len(list) > 0 {
			before, old[key(l)] = list[0].Outcome, list[1:]
		}
		// A new line that comes up is what was asked for, and nothing that has to be told.
		if before != l.Outcome && (before != "" || l.Outcome.Rank() > Passed.Rank()) {
			c.Lines = append(c.Lines, LineChange{l, before})
		}
	}
	if is.worse(was) {
		f := Worse.New(Thing, "it %s; as it is now: %s", c.After, c.Before)
		if at := slices.IndexFunc(is.Lines, func(l Line) bool { return l.First }); at >= 0 {
			l := is.Lines[at]
			f.Text += fmt.Sprintf("; %s (%s): %s", l.place(), l.At(), l.Reason)
		} else if is.Why != "" {
			f.Text += "; " + is.Why
		}
		worse = append(worse, f.WithRemedy("%s says which line is the cause", way.Rehearse().Line()))
	}
	return c, worse
}

// worse reports whether a boot comes to less than another one. What cannot be told is neither.
func (r Report) worse(was Report) bool {
	missing := func(r Report) (n int) {
		for _, l := range r.Lines {
			if l.Missing() {
				n++
			}
		}
		return n
	}
	switch {
	// Not worse and not better: whoever refused here would refuse every change on a machine of
	// which not all is known.
	case r.Verdict == Untold:
		return false
	case r.Verdict != was.Verdict:
		return r.Verdict.Rank() > was.Verdict.Rank() && r.Verdict != ComesUp
	}
	// Of two boots with the same verdict the one is worse that lacks more, or waits longer; names
	// are not compared, since a line may have been renamed by the change itself.
	return r.Verdict == Without && missing(r) > missing(was) || r.Verdict == WithDelays && r.Delay > was.Delay
}
