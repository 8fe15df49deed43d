package verify

import (
	"fmt"

	"fundus/core/boot"
	"fundus/core/finding"
	"fundus/core/text/fstab"
)

// foretold holds the lines against what the next boot makes of them, so that a check and a
// rehearsal say the same: what is not mounted, or stops the boot, has a finding, whatever the
// families above found.
func (k *look) foretold(found []finding.Finding) (out []finding.Finding) {
	worst := map[string]int{}
	for _, f := range found {
		worst[f.Thing] = max(worst[f.Thing], f.Severity.Rank())
	}
	if k.boot.Verdict == boot.NoRoot { // then no line comes to anything, which is not theirs
		return nil
	}
	for _, l := range k.boot.Lines {
		if l.File != "" {
			continue
		}
		thing := fmt.Sprintf("%s:%d", fstab.Path, l.Number)
		var f finding.Finding
		switch l.Outcome {
		case boot.Emergency, boot.Unread, boot.Delay, boot.Left:
			f = FstabForetold.New(thing, "%s: %s", l.Outcome, l.Reason)
		case boot.Unknown:
			f = FstabUntold.New(thing, "whether it is mounted at the next boot cannot be told: %s", l.Reason)
		default:
			continue
		}
		if l.Outcome != boot.Unknown && (l.NoFail || l.Unit.Automount || l.Unit.Entry.IsSwap()) && l.Outcome != boot.Emergency {
			f.Severity = finding.Warning
		}
		if has, any := worst[thing]; !any || has < f.Severity.Rank() {
			out = append(out, f.WithRemedy("look at the whole boot with fundus rehearse"))
		}
	}
	return out
}

// outcome is what the next boot makes of a line.
func (k *look) outcome(line int) boot.Outcome {
	for _, l := range k.boot.Lines {
		if l.File == "" && l.Number == line {
			return l.Outcome
		}
	}
	return ""
}
