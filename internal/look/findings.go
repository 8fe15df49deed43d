package look

import "fundus/core/finding"

// FstabEmptied is found where most lines are gone that were seen before.
var (
	FstabEmptied = finding.Entry{ID: "fstab-emptied", Severity: finding.Error, Why: "what the lines mounted is missing after the next boot"}
)
