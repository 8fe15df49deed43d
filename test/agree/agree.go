// Package agree holds what a check of fstab says against what a rehearsal of the next boot says of
// the same lines, for tests.
package agree

import (
	"fmt"
	"strings"

	"fundus/core/boot"
	"fundus/core/finding"
	"fundus/core/inventory"
	"fundus/core/verify"
)

// excused says why a line may have no error though the boot does without it, or an error though it
// is mounted; "" where nothing excuses that.
func excused(l boot.Line, found []finding.Finding) string {
	for _, f := range found {
		switch f.ID {
		case verify.FstabParent.ID:
			return "it is mounted today, and not once its parent is missing"
		case verify.FstabAmbiguous.ID:
			return "which of two is mounted is chance"
		}
	}
	switch {
	case l.Dir == "/":
		return "the root is mounted by the command line, whatever its line says"
	case l.Outcome == boot.Passed && strings.Contains(l.Reason, "count"):
		return "another line or a unit counts in its place"
	case l.NoFail, l.Unit.Automount, l.Unit.Entry.IsSwap():
		return "the boot goes on without it, which its line says: a warning"
	}
	return ""
}

// Lines holds the check of fstab against the rehearsal: a line has an error if and only if it is
// not mounted at the next boot, or stops it.
func Lines(v *inventory.Inventory) (wrong []string, lines int) {
	report := boot.Rehearse(v)
	if report.Verdict == boot.NoRoot {
		return nil, 0
	}
	found := map[string][]finding.Finding{}
	for _, f := range verify.All(v) {
		found[f.Thing] = append(found[f.Thing], f)
	}
	for _, l := range report.Lines {
		if l.File != "" {
			continue
		}
		lines++
		mine := found[fmt.Sprintf("/etc/fstab:%d", l.Number)]
		errors, warnings := 0, 0
		for _, f := range mine {
			if f.Severity == finding.Error {
				errors++
			} else if f.Severity == finding.Warning {
				warnings++
			}
		}
		lost := l.Outcome == boot.Emergency || l.Outcome == boot.Unread || l.Outcome == boot.Delay || l.Outcome == boot.Left ||
			l.Outcome == boot.Passed
		switch why := excused(l, mine); {
		case lost == (errors > 0):
		case why != "" && (!lost || errors+warnings > 0 || l.Dir == "/" || l.Outcome == boot.Passed):
		default:
			wrong = append(wrong, fmt.Sprintf("line %d, %s: %s (%s); found: %v", l.Number, l.Raw, l.Outcome, l.Reason, mine))
		}
	}
	return wrong, lines
}
