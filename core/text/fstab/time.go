package fstab

import (
	"math"
	"strconv"
	"strings"
	"time"
)

// Forever is a span without an end.
const Forever = time.Duration(math.MaxInt64)

// Span reads the words as systemd reads a span of time: numbers with units or without, in any
// row, a bare one in seconds; or infinity.
//
// Source: systemd.time(7).
func Span(s string) (span time.Duration, ok bool) {
	const blanks = " \t\n\r"
	s = strings.TrimLeft(s, blanks)
	if rest, is := strings.CutPrefix(s, "infinity"); is {
		return Forever, strings.Trim(rest, blanks) == ""
	}
	for some := false; ; some = true {
		if s = strings.TrimLeft(s, blanks); s == "" {
			return span, some
		}
		rest := strings.TrimLeft(s, "0123456789")
		whole := s[:len(s)-len(rest)]
		part := ""
		if after, is := strings.CutPrefix(rest, "."); is {
			rest = strings.TrimLeft(after, "0123456789")
			part = after[:len(after)-len(rest)]
		} else if whole == "" {
			return 0, false
		}
		rest = strings.TrimLeft(rest, blanks)
		n := len(rest) - len(strings.TrimLeft(rest, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZµ"))
		unit, is := time.Second, true
		if n > 0 {
			unit, is = units()[rest[:n]]
		}
		if !is {
			return 0, false
		}
		span += times(whole, part, unit)
		s = rest[n:]
	}
}

// times is so many units, with what stands behind a point.
func times(whole, part string, unit time.Duration) time.Duration {
	n, _ := strconv.ParseInt("0"+whole, 10, 64)
	if n > int64(Forever/unit) {
		return Forever
	}
	f, _ := strconv.ParseFloat("0."+part+"0", 64)
	return time.Duration(n)*unit + time.Duration(f*float64(unit))
}

// IsTime reports whether systemd reads the words as a span of time.
func IsTime(s string) bool {
	_, ok := Span(s)
	return ok
}

// units are the words behind a number; a month and a year are those of systemd.
func units() map[string]time.Duration {
	const day = 24 * time.Hour
	list := map[string]time.Duration{}
	for _, u := range []struct {
		words string
		span  time.Duration
	}{
		{"seconds second sec s", time.Second}, {"minutes minute min m", time.Minute}, {"months month M", 2629800 * time.Second}, {"msec ms", time.Millisecond},
		{"hours hour hr h", time.Hour}, {"days day d", day}, {"weeks week w", 7 * day}, {"years year y", 31557600 * time.Second}, {"usec us µs", time.Microsecond},
	} {
		for word := range strings.FieldsSeq(u.words) {
			list[word] = u.span
		}
	}
	return list
}
