package fs

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"fundus/core/quantity"
)

// Form is what kind of value a setting is.
type Form string

// The forms.
const (
	Size  Form = "size"  // bytes
	Share Form = "share" // tenths of a percent
	Count Form = "count"
	// Part is a Portion of the whole.
	Part Form = "share or size"
	Time Form = "time" // seconds
	// Choice is one of few words; the number is the place of its name.
	Choice Form = "choice"
	// Mode is who may do what with a file, in octal digits.
	Mode Form = "mode"
	// Reader is one of few words, or a version of Linux: who must be able to use the result.
	Reader Form = "reader"
	// Text is the one form that is no number: words of at most Range[1] bytes.
	Text Form = "text"
)

// Portion is a part of a whole: bytes, or a share. The number of a share is below 0.
type Portion int64

// ShareOf is a share in tenths of a percent.
func ShareOf(tenths int64) Portion { return Portion(-1 - tenths) }

// Share gives the tenths of a percent; false where it is a size.
func (p Portion) Share() (tenths int64, ok bool) { return -1 - int64(p), p < 0 }

// Of is how many of count units of the given size it is, rounded down.
func (p Portion) Of(count uint64, unit quantity.Bytes) uint64 {
	if tenths, ok := p.Share(); ok {
		return count/1000*uint64(tenths) + count%1000*uint64(tenths)/1000
	}
	return uint64(p) / uint64(unit)
}

// Exactly is n of count units as a share where one stands for the very number, else as a size.
func Exactly(n, count uint64, unit quantity.Bytes) Portion {
	for tenths := range int64(1001) {
		if p := ShareOf(tenths); p.Of(count, unit) == n {
			return p
		}
	}
	return Portion(n * uint64(unit))
}

// Parse reads a value. Bad words are ErrSetting, with what would be taken.
func (s Setting) Parse(word string) (int64, error) {
	if s.Nought != "" && (word == s.Nought || word == "0" && s.Form != Text) {
		return 0, nil
	}
	n, err := s.number(word)
	if err == nil && s.fits(n) {
		return n, nil
	}
	return 0, fmt.Errorf("%s=%s: %w; it takes %s", s.Key, word, ErrSetting, s.Takes())
}

// fits reports whether the number is one of those that the setting takes.
func (s Setting) fits(n int64) bool {
	if _, version := versionOf(n); s.Form == Reader && version {
		return true
	}
	if len(s.Only) > 0 {
		return slices.Contains(s.Only, n)
	}
	if tenths, ok := Portion(n).Share(); s.Form == Part && ok {
		n = tenths
	} else if s.Form == Part { // what a size comes to depends on the whole
		return true
	}
	return n >= s.Range[0] && n <= s.Range[1]
}

func (s Setting) number(word string) (int64, error) {
	switch s.Form {
	case Reader:
		return s.parseReader(word)
	case Text:
		return int64(len(word)), nil
	case Mode:
		n, err := strconv.ParseUint(word, 8, 12)
		return int64(n), err
	case Choice:
		if i := slices.Index(s.Names, word); i >= 0 {
			return s.Only[i], nil
		}
		return 0, ErrSetting
	case Count:
		n, err := strconv.ParseUint(word, 10, 62)
		return int64(n), err
	case Time:
		return parseTime(word)
	}
	switch { // of whatever
	case word == "0" && s.Form == Part:
		return int64(ShareOf(0)), nil
	case word == "0":
		return 0, nil
	}
	if share := strings.HasSuffix(word, "%"); s.Form == Share || s.Form == Part && share {
		n, err := parseShare(word)
		if s.Form == Part {
			n = int64(ShareOf(n))
		}
		return n, err
	}
	if n, err := strconv.ParseInt(word, 10, 64); err == nil && len(s.Only) > 0 {
		return n, nil // bytes: what is meant cannot be doubtful among so few
	}
	size, err := quantity.Parse(word)
	if err != nil || size.Form != quantity.Absolute { // sectors and shares of a device that is not at hand
		return 0, ErrSetting
	}
	n, err := size.Resolve(0, 0)
	return int64(n), err
}

// parseShare reads percents with at most one digit behind the point: finer than a tenth would
// be rounded without a word.
func parseShare(word string) (int64, error) {
	text, isShare := strings.CutSuffix(word, "%")
	percent, tenths, ok := strings.Cut(text, ".")
	if !ok {
		tenths = "0"
	}
	if !isShare || percent == "" || len(percent) > 3 || len(tenths) != 1 {
		return 0, ErrSetting
	}
	n, err := strconv.ParseUint(percent+tenths, 10, 32)
	return int64(n), err
}

// timeUnit is a unit of times: the name that is written, and others that are read.
type timeUnit struct {
	name    string
	others  []string
	seconds int64
}

// timeUnits are those of times, the longest first. What is only read has no name: no month is
// written, since it says 30 days here and other numbers elsewhere.
func timeUnits() []timeUnit {
	const day = 24 * 3600
	return []timeUnit{
		{"", []string{"month", "months"}, 30 * day}, {"", []string{"week", "weeks", "w"}, 7 * day}, {"d", []string{"day", "days"}, day},
		{"h", []string{"hour", "hours"}, 3600}, {"min", []string{"minute", "minutes"}, 60}, {"s", []string{"second", "seconds"}, 1},
	}
}

func parseTime(word string) (int64, error) {
	digits := strings.TrimRight(word, "abcdefghijklmnopqrstuvwxyz")
	n, err := strconv.ParseUint(digits, 10, 32)
	if err != nil {
		return 0, ErrSetting
	}
	for _, u := range timeUnits() {
		if unit := word[len(digits):]; unit != "" && (unit == u.name || slices.Contains(u.others, unit)) {
			return int64(n) * u.seconds, nil
		}
	}
	return 0, ErrSetting
}

// Word writes a value so that Parse reads the same.
func (s Setting) Word(n int64) string {
	if s.Nought != "" && n == 0 {
		return s.Nought
	}
	switch s.Form {
	case Reader:
		return s.readerWord(n)
	case Mode:
		return strconv.FormatInt(n, 8)
	case Choice:
		if i := slices.Index(s.Only, n); i >= 0 {
			return s.Names[i]
		}
		return "?"
	case Count, Text:
		return strconv.FormatInt(n, 10)
	case Share:
		return shareWord(n)
	case Time:
		return timeWord(n)
	}
	if tenths, ok := Portion(n).Share(); ok && s.Form == Part {
		return shareWord(tenths)
	}
	return sizeWord(n)
}

func shareWord(tenths int64) string {
	return strings.TrimSuffix(fmt.Sprintf("%d.%d", tenths/10, tenths%10), ".0") + "%"
}

func timeWord(n int64) string {
	for _, u := range timeUnits() {
		if n != 0 && u.name != "" && n%u.seconds == 0 {
			return fmt.Sprintf("%d%s", n/u.seconds, u.name)
		}
	}
	return "0s"
}

func sizeWord(n int64) string {
	for _, u := range []struct {
		name string
		size int64
	}{{"TiB", 1 << 40}, {"GiB", 1 << 30}, {"MiB", 1 << 20}, {"KiB", 1 << 10}} {
		if n != 0 && n%u.size == 0 {
			return fmt.Sprintf("%d%s", n/u.size, u.name)
		}
	}
	return fmt.Sprintf("%dB", n)
}

// Takes says which values are taken.
func (s Setting) Takes() string {
	words := s.Words()
	switch {
	case s.Form == Text:
		words = []string{fmt.Sprintf("words of at most %d bytes", s.Range[1])}
	case s.Form == Part:
		words = []string{shareWord(s.Range[0]) + " to " + shareWord(s.Range[1]), "a size"}
	case len(s.Only) == 0:
		words = []string{s.Word(s.Range[0]) + " to " + s.Word(s.Range[1])}
	case s.Form == Reader:
		words = append(words, "a Linux such as 5.4")
	}
	if s.Nought != "" && !slices.Contains(words, s.Nought) {
		words = append(words, s.Nought)
	}
	if last := len(words) - 1; last > 0 {
		return strings.Join(words[:last], ", ") + " or " + words[last]
	}
	return words[0]
}

// TakesLater says which values are taken where the setting is given later.
func (s Setting) TakesLater() string {
	if s.Later != "" {
		return s.Later
	}
	return s.Takes()
}

// Words lists the values of a setting that takes few of them.
func (s Setting) Words() (words []string) {
	for _, n := range s.Only {
		words = append(words, s.Word(n))
	}
	return words
}
