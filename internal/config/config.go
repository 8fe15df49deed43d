// Package config reads the configuration: one YAML file of the machine and one
// of the user, whose keys win. Every key has a default and a sentence that says
// what it is for; a value knows which file and line it is from.
//
// A key that is unknown or has a senseless value is a Fault with its line and
// leaves the default in force. Who reads decides what to do about it: looks,
// undo and recover warn, everything else refuses.
package config

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/quantity"
	"fundus/core/refused"
	"fundus/core/way"
)

// System is the machine's own file.
const System = "/etc/fundus/config.yaml"

// Config is what is in force.
type Config struct {
	Sizes      quantity.Style
	Colour     string         // auto, always or never
	Patience   time.Duration  // for a disk to answer
	Alignment  quantity.Bytes // new partitions begin on multiples of it, at least
	Identifier string         // uuid, partuuid or label: how fstab names a device
	Options    map[string][]string
	BusOptions map[string][]string
	Formats    map[string]map[string]string // by kind, the settings of new file systems
	Images     quantity.Bytes               // of one deed, compressed
	Deeds      int                          // how many are kept; 0 for all
	Drafts     int
	DraftAge   time.Duration

	from   map[string]string // by key: the file and line
	Faults []Fault
}

// Fault is a line that means nothing.
type Fault struct {
	Path string
	Line int // 0 where it is the whole file
	Text string
}

func (f Fault) Error() string {
	if f.Line == 0 {
		return fmt.Sprintf("%s: %s", f.Path, f.Text)
	}
	return fmt.Sprintf("%s:%d: %s", f.Path, f.Line, f.Text)
}

// Entry is one key as it is in force.
type Entry struct {
	Key, Value, From, Purpose string
}

// Default is the configuration without any file.
func Default() *Config {
	c := &Config{
		Options:    map[string][]string{},
		BusOptions: map[string][]string{},
		Formats:    map[string]map[string]string{},
		from:       map[string]string{},
	}
	for _, k := range keys() {
		if k.preset != "" {
			if err := k.set(c, k.name, k.preset); err != nil {
				panic(err) // a default that its own key refuses: a test would see it first
			}
		}
	}
	return c
}

// Load reads the files in their order; later ones win, missing ones do not
// count.
func Load(paths ...string) *Config {
	c := Default()
	for _, path := range paths {
		if path != "" {
			c.read(path)
		}
	}
	return c
}

// User is the user's own file.
func User(getenv func(string) string) string {
	if dir := getenv("XDG_CONFIG_HOME"); dir != "" {
		return filepath.Join(dir, "fundus", "config.yaml")
	}
	if home := getenv("HOME"); home != "" {
		return filepath.Join(home, ".config", "fundus", "config.yaml")
	}
	return ""
}

const largest = 64 << 10 // bytes of a file

func (c *Config) read(path string) {
	fault := func(line int, format string, args ...any) {
		c.Faults = append(c.Faults, Fault{path, line, fmt.Sprintf(format, args...)})
	}
	info, err := os.Stat(path)
	if errors.Is(err, os.ErrNotExist) || errors.Is(err, os.ErrPermission) { // in somebody else's home
		return
	}
	if err == nil && (!info.Mode().IsRegular() || info.Size() > largest) {
		err = fmt.Errorf("no regular file of at most %d bytes", largest)
	}
	var data []byte
	if err == nil {
		data, err = os.ReadFile(path)
	}
	var doc yaml.Node
	if err == nil {
		err = yaml.Unmarshal(data, &doc)
	}
	switch {
	case err != nil:
		fault(0, "%s", strings.TrimPrefix(err.Error(), "yaml: "))
	case len(doc.Content) == 0:
	default:
		c.take(path, "", doc.Content[0], fault)
	}
}

// take goes through a mapping; keys below keys are joined with dots.
func (c *Config) take(path, prefix string, n *yaml.Node, fault func(int, string, ...any)) {
	if n.Kind != yaml.MappingNode {
		fault(n.Line, "%q: KEY: VALUE is expected", cmp.Or(strings.TrimSuffix(prefix, "."), n.Value))
		return
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		name, value := prefix+n.Content[i].Value, n.Content[i+1]
		k, ok := find(name)
		switch {
		case !ok && isGroup(name) && value.Kind == yaml.MappingNode:
			c.take(path, name+".", value, fault)
		case !ok && isGroup(name):
			fault(value.Line, "%s has keys of its own below it; %s", name, nearest(name+"."))
		case !ok:
			fault(n.Content[i].Line, "there is no key %q; %s", name, nearest(name))
		default:
			words, err := scalar(value)
			if err == nil {
				err = k.set(c, name, words)
			}
			if err != nil {
				fault(value.Line, "%s: %v", name, err)
				continue
			}
			c.from[name] = fmt.Sprintf("%s:%d", path, value.Line)
		}
	}
}

// scalar is the text of a value; a list is joined with commas.
func scalar(n *yaml.Node) (string, error) {
	switch n.Kind {
	case yaml.ScalarNode:
		return n.Value, nil
	case yaml.SequenceNode:
		var words []string
		for _, x := range n.Content {
			if x.Kind != yaml.ScalarNode {
				return "", errors.New("a list of words is expected")
			}
			words = append(words, x.Value)
		}
		return strings.Join(words, ","), nil
	}
	return "", errors.New("a word or a list of words is expected")
}

// Entries lists every key with its value, in their order; keys that hold one
// value for each kind or bus are listed as often as they are set. Settings of new file
// systems are many: those that are not set have one line for each kind.
func (c *Config) Entries() (out []Entry) {
	kinds := map[string]bool{}
	for _, k := range keys() {
		if k.kind != "" && c.from[k.name] == "" {
			if !kinds[k.kind] {
				out = append(out, Entry{
					"format." + k.kind + ".*", "", "default",
					"what new " + k.kind + " are made with; fundus settings " + k.kind + " lists the keys",
				})
			}
			kinds[k.kind] = true
			continue
		}
		if !strings.HasSuffix(k.name, ".*") {
			out = append(out, Entry{k.name, k.get(c, k.name), cmp.Or(c.from[k.name], "default"), k.purpose})
			continue
		}
		var names []string
		for name := range c.from {
			if k.fits(name) {
				names = append(names, name)
			}
		}
		slices.Sort(names)
		for _, name := range names {
			out = append(out, Entry{name, k.get(c, name), c.from[name], k.purpose})
		}
		if len(names) == 0 {
			out = append(out, Entry{k.name, "", "default", k.purpose})
		}
	}
	return out
}

// Prefer gives a key a value of more weight than any file, and says from where.
func (c *Config) Prefer(name, value, from string) error {
	k, ok := find(name)
	if !ok {
		return refused.As(refused.SettingWrong, fmt.Errorf("there is no key %q", name))
	}
	if err := k.set(c, name, value); err != nil {
		return err
	}
	c.from[name] = from
	return nil
}

// Wishes are the settings that the configuration has for new file systems of a kind.
func (c *Config) Wishes(kind string) fs.Wishes {
	w := fs.Wishes{}
	for key, word := range c.Formats[kind] {
		w[key] = fs.Wish{Word: word, By: fs.ByConfiguration}
	}
	return w
}

// From says where a key is set: a file with its line, an option, or "" for the default.
func (c *Config) From(name string) string { return c.from[name] }

// MountOptions are those that the configuration has for a kind on a bus; nil
// where it has none.
func (c *Config) MountOptions(kind, bus string) []string {
	return slices.Concat(c.Options[kind], c.BusOptions[bus])
}

var word = regexp.MustCompile(`^[a-z0-9]+$`)

func find(name string) (key, bool) {
	for _, k := range keys() {
		if k.fits(name) {
			return k, true
		}
	}
	return key{}, false
}

// isGroup reports whether keys begin with the name and a dot.
func isGroup(name string) bool {
	return slices.ContainsFunc(keys(), func(k key) bool { return strings.HasPrefix(k.name, name+".") })
}

// nearest says which keys there are at the same place.
func nearest(name string) string {
	place := name[:strings.LastIndex(name, ".")+1]
	var there []string
	for _, k := range keys() {
		if rest, ok := strings.CutPrefix(k.name, place); ok {
			if first, _, _ := strings.Cut(rest, "."); !slices.Contains(there, first) {
				there = append(there, first)
			}
		}
	}
	if len(there) == 0 {
		return way.Inspect("--configuration").Line() + " lists the keys"
	}
	return "there is " + strings.Join(there, ", ")
}

// Step is the alignment step of a disk: as configured, and a multiple of what its
// hardware asks for.
func (c *Config) Step(g block.Geometry) quantity.Bytes {
	return quantity.Bytes(extent.Step(uint64(c.Alignment), uint64(g.Physical), uint64(g.OptIO)))
}
