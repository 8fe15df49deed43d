package fs

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
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
// Every value but a text is a whole number of the form's unit, so that it is read, compared
// and stored in one way; words are for people alone.
type Setting struct {
	Key     string // the word before the equals sign, everywhere
	Meaning string // one clause
	Form    Form
	Only    []int64  // the values that it takes, where these are few
	Names   []string // of those values, for a choice
	Range   [2]int64 // the least and the most, where there is no Only
	Nought  string   // the word for 0, which is outside of the range: "no", "never"
	Shapes  bool     // it shapes what is made, and is not stored itself
	Default string   // the rule, in words: its result depends on the device
	When    When
	Later   string // the one value that it takes later, where that is not any
	Since   string // the oldest Linux that reads and writes the result, "" for every one that is maintained
}

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
	ErrFixed     = errors.New("it is set when the file system is made")
)

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
	Get  func(*O) int64
	Set  func(*O, int64)
	Text func(*O) *string // of a text, instead of both
}

func (s Option[O]) word(o *O) string {
	if s.Text == nil {
		return s.Word(s.Get(o))
	}
	return cmp.Or(*s.Text(o), s.Nought)
}

func (s Option[O]) take(o *O, word string) error {
	n, err := s.Parse(word)
	switch {
	case err != nil:
		return err
	case s.Text == nil:
		s.Set(o, n)
	case word == s.Nought:
		*s.Text(o) = ""
	default:
		*s.Text(o) = word
	}
	return nil
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
			if err := s.take(o, w.Word); err != nil {
				return err
			}
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

// TakeLater writes what is wished into the options of content that was made already: a key
// that is only set when it is made is ErrFixed.
func TakeLater[O any](list []Option[O], o *O, wishes Wishes) error {
	var later []Option[O]
	var keys []string
	for _, s := range list {
		if s.When.Later() {
			later, keys = append(later, s), append(keys, s.Key)
		}
	}
	for _, s := range list {
		w, ok := wishes[s.Key]
		switch {
		case ok && !s.When.Later():
			return fmt.Errorf("%s: %w; later there is %s", s.Key, ErrFixed, strings.Join(keys, ", "))
		case ok && s.Later != "" && w.Word != s.Later:
			return fmt.Errorf("%s=%s: %w; later it takes %s alone", s.Key, w.Word, ErrSetting, s.Later)
		}
	}
	return Take(later, o, wishes)
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
		out = append(out, Value{s.Key, s.word(o), by})
	}
	return out
}

// Stored lists the values of those that are stored, as they lie on a device.
func Stored[O any](list []Option[O], o *O) (out []Value) {
	for _, s := range list {
		if !s.Shapes {
			out = append(out, Value{Key: s.Key, Word: s.word(o)})
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
	Note   string   // what whoever asked has to know, "" for nothing
	Facts  []Fact   // the figures that follow from them
}

// Tell takes the settings in: one that nobody asked for, and of which idle says that it shapes
// nothing here, is told by its key alone.
func (m *Made) Tell(values []Value, idle func(key string) bool) {
	for _, v := range values {
		if v.By == ByDefault && idle(v.Key) {
			m.Idle = append(m.Idle, v.Key)
			continue
		}
		m.Values = append(m.Values, v)
	}
}
