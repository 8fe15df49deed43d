package units

import (
	"maps"
	"slices"
	"strings"
)

// Tree is what lies in one directory of units, by the path below it: "srv-scans.mount",
// "local-fs.target.wants/srv-scans.mount", "dev-sdb1.device.d/50-device-timeout.conf".
type Tree map[string]Entry

// Entry is a file, or a link where To is not empty.
type Entry struct {
	Data   []byte
	To     string
	Masked bool // it leads to where nothing is
}

// Paths lists what is there, in order.
func (t Tree) Paths() []string { return slices.Sorted(maps.Keys(t)) }

// link puts a unit into what pulls it in.
func (t Tree) link(dir, name string) { t[dir+"/"+name] = Entry{To: "../" + name} }

// builder writes a unit file, section by section.
type builder struct {
	strings.Builder
	head string // of a section that has no setting yet
}

func (b *builder) section(name string) { b.head = "[" + name + "]\n" }

// set adds a setting; without a value it adds none.
func (b *builder) set(key, value string) {
	if value == "" {
		return
	}
	if b.head != "" && b.Len() > 0 {
		b.WriteByte('\n')
	}
	b.WriteString(b.head + key + "=" + value + "\n")
	b.head = ""
}

func (b *builder) entry() Entry { return Entry{Data: []byte(b.String())} }

// plain is a value in which nothing is filled in.
func plain(value string) string { return strings.ReplaceAll(value, "%", "%%") }
