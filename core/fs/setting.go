package fs

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"fundus/core/progress"
	"fundus/core/quantity"
)

// Setting is one thing that content can be made with: declared once, in one row of its
// kind's package. The words of `format`, their help and completion, the keys of the
// configuration, the documents and the origins in a draft are made from it.
//
// Every value is a whole number of the form's unit, so that it is read, compared and
// stored in one way; words are for people alone.
type Setting struct {
	Key     string // the word before the equals sign, everywhere
	Meaning string // one clause
	Form    Form
	Only    []int64  // the values that it takes, where these are few
	Names   []string // of those values, for a choice
	Range   [2]int64 // the least and the most, where there is no Only
	Shapes  bool     // it shapes what is made, and is not stored itself
	Default string   // the rule, in words: its result depends on the device
	When    When
	Since   string // the oldest Linux that reads and writes the result, "" for every one that is maintained
}

// Form is what kind of number a setting is.
type Form string

// The forms.
const (
	Size  Form = "size"  // bytes
	Share Form = "share" // tenths of a percent
	Count Form = "count"
	// Choice is one of few words; the number is the place of its name.
	Choice Form = "choice"
	// Mode is who may do what with a file, in octal digits.
	Mode Form = "mode"
	// Reader is one of few words, or a version of Linux: who must be able to use the result.
	Reader Form = "reader"
)

// When says at which times a setting can be given to content, as the format allows it.
type When uint

// The times, which are added up.
const (
	AtMaking  When = 1 << iota
	Unmounted      // later too, while it is not mounted
)

// Later reports whether it can be set after the making too.
func (w When) Later() bool { return w&Unmounted != 0 }

func (w When) String() string {
	if w.Later() {
		return "when made; unmounted"
	}
	return "when made"
}

// Errors of settings.
var (
	ErrSetting   = errors.New("not a value of this setting")
	ErrNoSetting = errors.New("no setting of this kind")
)

// Parse reads a value. Bad words are ErrSetting, with what would be taken.
func (s Setting) Parse(word string) (int64, error) {
	n, err := s.number(word)
	if _, version := versionOf(n); s.Form == Reader && err == nil && version {
		return n, nil
	}
	if err != nil || len(s.Only) > 0 && !slices.Contains(s.Only, n) || len(s.Only) == 0 && (n < s.Range[0] || n > s.Range[1]) {
		return 0, fmt.Errorf("%s=%s: %w; it takes %s", s.Key, word, ErrSetting, s.Takes())
	}
	return n, nil
}

func (s Setting) number(word string) (int64, error) {
	switch s.Form {
	case Reader:
		return s.parseReader(word)
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
	}
	if s.Form == Share {
		text, isShare := strings.CutSuffix(word, "%")
		percent, tenths, ok := strings.Cut(text, ".")
		if !ok {
			tenths = "0"
		}
		if !isShare || percent == "" || len(percent) > 3 || len(tenths) != 1 { // finer than a tenth would be rounded without a word
			return 0, ErrSetting
		}
		n, err := strconv.ParseUint(percent+tenths, 10, 32)
		return int64(n), err
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

// Word writes a value so that Parse reads the same.
func (s Setting) Word(n int64) string {
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
	case Count:
		return strconv.FormatInt(n, 10)
	case Share:
		return strings.TrimSuffix(fmt.Sprintf("%d.%d", n/10, n%10), ".0") + "%"
	}
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
	if len(s.Only) == 0 {
		return s.Word(s.Range[0]) + " to " + s.Word(s.Range[1])
	}
	words := s.Words()
	if s.Form == Reader {
		words = append(words, "a Linux such as 5.4")
	}
	if last := len(words) - 1; last > 0 {
		return strings.Join(words[:last], ", ") + " or " + words[last]
	}
	return words[0]
}

// Words lists the values of a setting that takes few of them.
func (s Setting) Words() (words []string) {
	for _, n := range s.Only {
		words = append(words, s.Word(n))
	}
	return words
}

// Origin says where a value is from.
type Origin string

// The origins, each of more weight than the one before.
const (
	ByDefault       Origin = "default"
	ByDevice        Origin = "hint of the device"
	ByConfiguration Origin = "configuration"
	ByRequest       Origin = "asked"
)

// Chosen reports whether somebody, or something, had a say in it.
func (o Origin) Chosen() bool { return o != ByDefault }

// Wish is a value that somebody wants.
type Wish struct {
	Word string
	By   Origin
}

// Wishes are values by their keys.
type Wishes map[string]Wish

// Value is a setting as it was decided, or as it is on a device.
type Value struct {
	Key, Word string
	By        Origin // "" for one that is on a device
}

// Option ties a setting to a field of a maker's own options: makers read typed fields,
// never words.
type Option[O any] struct {
	Setting
	Get func(*O) int64
	Set func(*O, int64)
}

// Settings of a list of options.
func Settings[O any](list []Option[O]) (out []Setting) {
	for _, s := range list {
		out = append(out, s.Setting)
	}
	return out
}

// Take writes what is wished into the options. A key that is none of the list is
// ErrNoSetting, a word that means nothing ErrSetting.
func Take[O any](list []Option[O], o *O, wishes Wishes) error {
	var keys, unknown []string
	for _, s := range list {
		keys = append(keys, s.Key)
		if w, ok := wishes[s.Key]; ok {
			n, err := s.Parse(w.Word)
			if err != nil {
				return err
			}
			s.Set(o, n)
		}
	}
	for key := range wishes {
		if !slices.Contains(keys, key) {
			unknown = append(unknown, key)
		}
	}
	if len(unknown) > 0 {
		slices.Sort(unknown)
		return fmt.Errorf("%s: %w; there is %s", unknown[0], ErrNoSetting, strings.Join(keys, ", "))
	}
	return nil
}

// Decided lists the values that the options have in the end, and where each is from.
// Hinted are the keys whose default would be another one on another device of the size.
func Decided[O any](list []Option[O], o *O, wishes Wishes, hinted ...string) (out []Value) {
	for _, s := range list {
		by := ByDefault
		if slices.Contains(hinted, s.Key) {
			by = ByDevice
		}
		if w, ok := wishes[s.Key]; ok {
			by = w.By
		}
		if s.Form == Reader && by == ByDefault { // nobody in particular
			continue
		}
		out = append(out, Value{s.Key, s.Word(s.Get(o)), by})
	}
	return out
}

// Stored lists the values of those that are stored, as they lie on a device.
func Stored[O any](list []Option[O], o *O) (out []Value) {
	for _, s := range list {
		if !s.Shapes {
			out = append(out, Value{Key: s.Key, Word: s.Word(s.Get(o))})
		}
	}
	return out
}

// YesNo is a choice of two words.
func YesNo(key string) Setting {
	return Setting{Key: key, Form: Choice, Only: []int64{0, 1}, Names: []string{"no", "yes"}}
}

// Order is what a maker is asked for besides its settings.
type Order struct {
	Start  quantity.Bytes // where the device begins on its disk
	Label  string
	ID     ID
	Again  bool // the identifier may have been on the device before: it was not drawn for this
	Flash  bool // nothing turns in the device: many places are written at once
	Wishes Wishes
	Time   time.Time
	Fresh  func() uuid.UUID // a new random identifier at each call
	Sink   progress.Sink
}

// Made is what became of an order.
type Made struct {
	Values []Value  // the settings that shape it, in the kind's order
	Idle   []string // the keys of those that shape nothing here
	Facts  []Fact   // the figures that follow from them
}
