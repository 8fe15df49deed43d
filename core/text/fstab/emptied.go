package fstab

import "bytes"

// Emptied reports whether a table has lost more than half of the lines that it had, and how
// many: nobody does that by hand on purpose, and a program that fails halfway does.
func Emptied(now, before []byte) (lost int, is bool) {
	if bytes.Equal(now, before) {
		return 0, false
	}
	have, had := len(Parse(now).Entries()), len(Parse(before).Entries())
	return had - have, had > 0 && have*2 < had
}
