package boot

import "fundus/core/finding"

// Worse is found where a change would have the next boot come to less.
var (
	Worse = finding.Entry{
		ID:       "boot-worse",
		Severity: finding.Error,
		Why:      "a machine that does not boot cannot be reached remotely",
	}
)
