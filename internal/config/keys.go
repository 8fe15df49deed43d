package config

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"fundus/core/kind"
	"fundus/core/quantity"
	"fundus/core/refused"
)

// key is one key of the file. A name that ends in .* holds a value for each word
// in place of the star.
type key struct {
	name, preset, purpose string
	set                   func(c *Config, name, value string) error
	get                   func(c *Config, name string) string
	kind                  string // of file systems, for a setting of new ones
}

func (k key) fits(name string) bool {
	group, ok := strings.CutSuffix(k.name, "*")
	rest, below := strings.CutPrefix(name, group)
	return k.name == name && !ok || ok && below && word.MatchString(rest)
}

// keys lists all of them, in the order in which they are shown.
func keys() []key {
	return slices.Concat(ownKeys(), formatKeys())
}

// formatKeys are what new file systems are made with where nothing else is asked: one
// key for each setting of each kind.
func formatKeys() (list []key) {
	for _, m := range kind.Makers() {
		for _, s := range m.Settings() {
			list = append(list, key{name: "format." + m.Word + "." + s.Key, purpose: "for new " + m.Word + ": " + s.Meaning, kind: m.Word,
				set: func(c *Config, _, value string) error {
					if _, err := s.Parse(value); err != nil {
						return fmt.Errorf("%q: it takes %s", value, s.Takes())
					}
					if c.Formats[m.Word] == nil {
						c.Formats[m.Word] = map[string]string{}
					}
					c.Formats[m.Word][s.Key] = value
					return nil
				},
				get: func(c *Config, _ string) string { return c.Formats[m.Word][s.Key] }})
		}
	}
	return list
}

func ownKeys() []key {
	return []key{
		choice("sizes", "iec", "how sizes are printed: iec (1024), si (1000), sectors or bytes", []string{"iec", "si", "sectors", "bytes"},
			func(c *Config, w string) { c.Sizes = quantity.Style(w) }, func(c *Config) string { return string(c.Sizes) }),
		choice("colour", "auto", "colours: auto (on a terminal), always or never", []string{"auto", "always", "never"},
			func(c *Config, w string) { c.Colour = w }, func(c *Config) string { return c.Colour }),
		span("patience", "10s", "how long a disk may take to answer before it is listed as silent and left alone", time.Second, time.Hour, func(c *Config) *time.Duration { return &c.Patience }),
		size("alignment", "1MiB", "new partitions begin on multiples of it, and of what the disk asks for", 1<<20, 64<<20, func(c *Config) *quantity.Bytes { return &c.Alignment }),
		choice("fstab.identifier", "uuid", "how new lines of fstab name a device: uuid, partuuid or label",
			[]string{"uuid", "partuuid", "label"},
			func(c *Config, w string) { c.Identifier = w }, func(c *Config) string { return c.Identifier }),
		list("fstab.options.*", "mount options of new lines for a kind, such as ext4", "fstab.options.", func(c *Config) map[string][]string { return c.Options }),
		list("fstab.bus.*", "mount options that are added for a bus, such as usb", "fstab.bus.", func(c *Config) map[string][]string { return c.BusOptions }),
		size("deeds.images", "1GiB", "the most that the images of one deed may take, compressed", 1<<20, 1<<40, func(c *Config) *quantity.Bytes { return &c.Images }),
		count("deeds.keep", "0", "how many deeds are kept, the newest; 0 keeps all", 0, func(c *Config) *int { return &c.Deeds }),
		count("drafts.keep", "50", "how many drafts wait for their commit, the newest", 1, func(c *Config) *int { return &c.Drafts }),
		span("drafts.age", "24h", "how long a draft waits before it is forgotten", time.Minute, 365*24*time.Hour, func(c *Config) *time.Duration { return &c.DraftAge }),
	}
}

func choice(name, preset, purpose string, words []string, set func(*Config, string), get func(*Config) string) key {
	return key{name: name, preset: preset, purpose: purpose,
		set: func(c *Config, _, value string) error {
			if !slices.Contains(words, value) {
				return refused.As(refused.SettingWrong, fmt.Errorf("%q: it is one of %s", value, strings.Join(words, ", ")))
			}
			set(c, value)
			return nil
		},
		get: func(c *Config, _ string) string { return get(c) }}
}

func span(name, preset, purpose string, least, most time.Duration, field func(*Config) *time.Duration) key {
	return key{name: name, preset: preset, purpose: purpose,
		set: func(c *Config, _, value string) error {
			d, err := time.ParseDuration(value)
			if err != nil || d < least || d > most {
				return fmt.Errorf("%q: a time from %v to %v, such as %s", value, least, most, preset)
			}
			*field(c) = d
			return nil
		},
		get: func(c *Config, _ string) string { return Short(*field(c)) }}
}

// Short writes a time without what is zero at its end: 24h, not 24h0m0s.
func Short(d time.Duration) string {
	text := d.String()
	for _, zero := range []string{"m0s", "h0m"} {
		if rest, ok := strings.CutSuffix(text, zero); ok {
			text = rest + zero[:1]
		}
	}
	return text
}

func size(name, preset, purpose string, least, most quantity.Bytes, field func(*Config) *quantity.Bytes) key {
	return key{name: name, preset: preset, purpose: purpose,
		set: func(c *Config, _, value string) error {
			s, err := quantity.Parse(value)
			if err != nil {
				return err
			}
			if s.Form != quantity.Absolute {
				return fmt.Errorf("%q: a size of its own, such as %s", value, preset)
			}
			n, err := s.Resolve(512, 0)
			if err != nil {
				return err
			}
			if n < least || n > most || n&(n-1) != 0 && name == "alignment" {
				return fmt.Errorf("%q: from %v to %v%s", value, least, most, map[bool]string{true: ", a power of two"}[name == "alignment"])
			}
			*field(c) = n
			return nil
		},
		get: func(c *Config, _ string) string { return strings.ReplaceAll(field(c).String(), ".0 ", " ") }}
}

func count(name, preset, purpose string, least int, field func(*Config) *int) key {
	return key{name: name, preset: preset, purpose: purpose,
		set: func(c *Config, _, value string) error {
			n, err := strconv.Atoi(value)
			if err != nil || n < least {
				return fmt.Errorf("%q: a whole number from %d", value, least)
			}
			*field(c) = n
			return nil
		},
		get: func(c *Config, _ string) string { return strconv.Itoa(*field(c)) }}
}

// list is a list of mount options for each kind or bus.
func list(name, purpose, prefix string, field func(*Config) map[string][]string) key {
	return key{name: name, purpose: purpose,
		set: func(c *Config, name, value string) error {
			var options []string
			for o := range strings.SplitSeq(value, ",") {
				if o = strings.TrimSpace(o); o == "" || strings.ContainsAny(o, " \t\n#") {
					return errors.New("mount options, separated by commas")
				}
				options = append(options, o)
			}
			field(c)[strings.TrimPrefix(name, prefix)] = options
			return nil
		},
		get: func(c *Config, name string) string {
			return strings.Join(field(c)[strings.TrimPrefix(name, prefix)], ",")
		}}
}
