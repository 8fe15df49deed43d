package fstab

import (
	"slices"
	"strings"
)

// IsTime reports whether systemd reads the words as a span of time: numbers with units or
// without, in any row, or infinity.
//
// Source: systemd.time(7).
func IsTime(s string) bool {
	s = strings.TrimLeft(s, whites)
	if rest, ok := strings.CutPrefix(s, "infinity"); ok {
		return strings.Trim(rest, whites) == ""
	}
	some := false
	for {
		s = strings.TrimLeft(s, whites)
		if s == "" {
			return some
		}
		digits := len(s) - len(strings.TrimLeft(s, "0123456789"))
		rest := s[digits:]
		if after, ok := strings.CutPrefix(rest, "."); ok {
			rest = strings.TrimLeft(after, "0123456789")
		} else if digits == 0 {
			return false
		}
		rest = strings.TrimLeft(rest, whites)
		n := len(rest) - len(strings.TrimLeft(rest, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZµ"))
		if n > 0 && !slices.Contains(timeUnits(), rest[:n]) {
			return false
		}
		s, some = rest[n:], true
	}
}

const whites = " \t\n\r"

// timeUnits lists the words behind a number.
func timeUnits() []string {
	return []string{"seconds", "second", "sec", "s", "minutes", "minute", "min", "months", "month", "M", "msec", "ms", "m", "hours", "hour", "hr", "h",
		"days", "day", "d", "weeks", "week", "w", "years", "year", "y", "usec", "us", "µs"}
}
