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
// row, a bare one in seconds; or infinity. What is more than 292 years is Forever, which is
// more than a Duration holds; what is more than systemd's 64 bits of microseconds hold is no
// span to it, and the line is read as if it were not there.
//
// Source: systemd.time(7); what systemd-analyze timespan refuses.
func Span(s string) (span time.Duration, ok bool) {
	const blanks = " \t\n\r"
	s = strings.TrimLeft(s, blanks)
	if rest, is := strings.CutPrefix(s, "infinity"); is {
		return Forever, strings.Trim(rest, blanks) == ""
	}
	sum := uint64(0) // microseconds
	for some := false; ; some = true {
		if s = strings.TrimLeft(s, blanks); s == "" {
			return duration(sum), some
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
		more, fits := times(whole, part, unit)
		if !fits || more >= math.MaxUint64-sum {
			return 0, false
		}
		sum, s = sum+more, rest[n:]
	}
}

func duration(microseconds uint64) time.Duration {
	if microseconds > uint64(Forever/time.Microsecond) {
		return Forever
	}
	return time.Duration(microseconds) * time.Microsecond
}

// times is so many units, with what stands behind a point, in microseconds; false where that
// is more than systemd counts.
func times(whole, part string, unit time.Duration) (microseconds uint64, ok bool) {
	n, err := strconv.ParseInt("0"+whole, 10, 64)
	each := uint64(unit / time.Microsecond)
	if err != nil || uint64(n) >= math.MaxUint64/each {
		return 0, false
	}
	f, _ := strconv.ParseFloat("0."+part+"0", 64)
	return uint64(n)*each + uint64(f*float64(each)), true
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
		{"seconds second sec s", time.Second}, {"minutes minute min m", time.Minute},
		{"months month M", 2629800 * time.Second}, {"msec ms", time.Millisecond},
		{"hours hour hr h", time.Hour}, {"days day d", day}, {"weeks week w", 7 * day},
		{"years year y", 31557600 * time.Second}, {"usec us µs", time.Microsecond},
	} {
		for word := range strings.FieldsSeq(u.words) {
			list[word] = u.span
		}
	}
	return list
}
