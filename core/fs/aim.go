package fs

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// ForKey is the setting of every kind that says who must be able to read the result.
const ForKey = "for"

// Words of ForKey beside versions of Linux.
const (
	ForAny      = "any"
	ForFirmware = "efi"
	ForBoot     = "boot"
)

// Version is a version of Linux, such as {5, 4}.
type Version struct{ Major, Minor int }

// ParseVersion reads "5.4"; further digits, as in "5.4.17", say nothing about features.
func ParseVersion(word string) (Version, bool) {
	major, rest, ok := strings.Cut(word, ".")
	minor, _, _ := strings.Cut(rest, ".")
	a, errA := strconv.ParseUint(major, 10, 8)
	b, errB := strconv.ParseUint(minor, 10, 8)
	return Version{int(a), int(b)}, ok && errA == nil && errB == nil
}

func (v Version) String() string { return fmt.Sprintf("%d.%d", v.Major, v.Minor) }

// Before reports whether the version is an older one.
func (v Version) Before(o Version) bool {
	return v.Major < o.Major || v.Major == o.Major && v.Minor < o.Minor
}

// A version's number as the value of a setting: above those of the words.
func (v Version) number() int64 { return 1<<16 | int64(v.Major)<<8 | int64(v.Minor) }

func versionOf(n int64) (Version, bool) {
	return Version{int(n >> 8 & 0xFF), int(n & 0xFF)}, n&(1<<16) != 0
}

// ReaderNumber is a word as the value of ForKey; the same of every kind.
func ReaderNumber(word string) int64 {
	return int64(slices.Index([]string{ForAny, ForBoot, ForFirmware}, word))
}

// ForSetting is the row of ForKey with the words that a kind takes beside versions of Linux.
func ForSetting(words ...string) Setting {
	s := Setting{Key: ForKey, Form: Reader, Names: append([]string{ForAny}, words...), Shapes: true, When: AtMaking, Default: ForAny}
	for _, word := range s.Names {
		s.Only = append(s.Only, ReaderNumber(word))
	}
	meanings := []string{"who must be able to use it. A Linux such as 5.4: only features that it knows"}
	for _, w := range words {
		switch w {
		case ForBoot:
			meanings = append(meanings, "boot: only what boot loaders read")
		case ForFirmware:
			meanings = append(meanings, "efi: what firmware reads best, FAT32 with small clusters wherever it fits")
		}
	}
	s.Meaning = strings.Join(meanings, "; ")
	return s
}

// Trait is a part of a kind's format that not every reader knows. The document of them is
// generated from these rows.
type Trait struct {
	Name  string  // in words
	Key   string  // the setting that leaves it out; "" where it is always there
	Since Version // the oldest Linux that reads and writes it
	Boot  bool    // boot loaders read it too
	Off   bool    // it is left out unless somebody asks for it
	Usual Version // of one that is Off: a reader from this Linux on has it without being asked
}

// usual reports whether a reader has the trait without being asked, though others do not.
func (f Trait) usual(word string) bool {
	v, ok := ParseVersion(word)
	return ok && f.Off && f.Usual != Version{} && !v.Before(f.Usual)
}

// missing says why a reader does not take the trait; "" where it does.
func (f Trait) missing(word string) string {
	if v, ok := ParseVersion(word); ok && v.Before(f.Since) {
		return fmt.Sprintf("Linux knows since %v", f.Since)
	}
	if word == ForBoot && !f.Boot {
		return "not every boot loader reads"
	}
	return ""
}

// Aimed adds to the wishes what follows from the reader that they name: its features alone.
// What was asked for and does not go with the reader is ErrSetting.
func Aimed(traits []Trait, wishes Wishes) (Wishes, error) {
	aim, ok := wishes[ForKey]
	if !ok {
		return wishes, nil
	}
	out := maps.Clone(wishes)
	for _, f := range traits {
		why := f.missing(aim.Word)
		asked, chosen := wishes[f.Key]
		switch {
		case why == "":
			if !chosen && f.usual(aim.Word) {
				out[f.Key] = Wish{"yes", Origin(ForKey + "=" + aim.Word)}
			}
		case f.Key == "":
			return nil, fmt.Errorf("%s=%s: %w: it is always made with %s, which %s", ForKey, aim.Word, ErrSetting, f.Name, why)
		case chosen && asked.Word != "no" && asked.By == ByRequest:
			return nil, fmt.Errorf("%s=%s: %w with %s=%s: that is %s, which %s", f.Key, asked.Word, ErrSetting, ForKey, aim.Word, f.Name, why)
		case !f.Off || chosen && asked.Word != "no":
			out[f.Key] = Wish{"no", Origin(ForKey + "=" + aim.Word)}
		}
	}
	return out, nil
}

// parseReader reads the value of ForKey.
func (s Setting) parseReader(word string) (int64, error) {
	if i := slices.Index(s.Names, word); i >= 0 {
		return s.Only[i], nil
	}
	if v, ok := ParseVersion(word); ok && v.Major >= 2 {
		return v.number(), nil
	}
	return 0, ErrSetting
}

func (s Setting) readerWord(n int64) string {
	if v, ok := versionOf(n); ok {
		return v.String()
	}
	if i := slices.Index(s.Only, n); i >= 0 {
		return s.Names[i]
	}
	return "?"
}

// NoTraits are those of a kind that every reader knows whole.
func NoTraits() []Trait { return nil }
