package boot

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/table"
	"fundus/core/text/fstab"
	"fundus/core/text/unit"
	"fundus/core/units"
)

var update = flag.Bool("update", false, "write what is foretold of the machines")

// described is a machine that really boots in the kernel's proof, with what is foretold of it.
type described struct {
	Name   string              `json:"name"`
	Always bool                `json:"always,omitempty"` // it boots whenever the proof runs
	Fstab  []string            `json:"fstab"`
	Files  map[string][]string `json:"files,omitempty"` // by path; "-> " begins a link
	Words  []string            `json:"words,omitempty"`
	Damage []string            `json:"damage,omitempty"` // of the kernel
	Is     []string            `json:"foretold"`         // the verdict, and what becomes of each line
}

const machinesFile = "testdata/machines.json"

func machines(t *testing.T) (list []described) {
	t.Helper()
	data, err := os.ReadFile(machinesFile)
	if err == nil {
		err = json.Unmarshal(data, &list)
	}
	if err != nil {
		t.Fatal(err)
	}
	return list
}

// disks are those of every such machine: a root with swap and homes beside it, and two for data.
func disks() (out []inventory.Node) {
	add := func(name, parent string, number int, kind, label, typ string) {
		n := inventory.Node{Name: name, Path: "/dev/" + name, Form: inventory.Partition, Parent: parent, Number: number, Size: quantity.GiB, Linux: inventory.KernelPart{Number: number, Size: quantity.GiB}, Entry: table.Partition{Number: number, UUID: "p-" + name, Type: typ}}
		if parent == "" {
			n.Form, n.Table = inventory.Disk, &table.Table{Scheme: table.GPT}
		}
		if n.Zeros = kind == ""; kind != "" {
			class := fs.FileSystem
			if kind == "swap" {
				class = fs.Swap
			}
			types := map[string][]string{"FAT16": {"vfat", "msdos"}, "ext2": {"ext2", "ext3", "ext4"}}[kind]
			n.Contents = []fs.Content{{Kind: kind, Types: types, Class: class, Label: label, UUID: "u-" + name, Size: quantity.GiB, State: fs.Clean}}
		}
		if number == 7 {
			n.Entry.Name = "blank"
		}
		out = append(out, n)
	}
	const linux = "0fc63daf-8483-4772-8e79-3d69d8477de4"
	add("ubda", "", 0, "", "", "")
	add("ubda1", "ubda", 1, "ext4", "fernhill", "4f68bce3-e8cd-4db1-96e7-fbcaf984b709")
	add("ubda2", "ubda", 2, "swap", "spare", "0657fd6d-a4ab-43c4-84e5-0933c84b4f4f")
	add("ubda3", "ubda", 3, "ext4", "homes", "933ac7e1-2eb4-4f13-b844-0e14e2aef915")
	add("ubdb", "", 0, "", "", "")
	for i, c := range [][2]string{{"ext4", "herbarium"}, {"xfs", "scans"}, {"FAT16", "CARD"}, {"swap", "rest"}, {"ext4", "seeds"}, {"ext2", "mosses"}, {"", ""}} {
		add(fmt.Sprintf("ubdb%d", i+1), "ubdb", i+1, c[0], c[1], linux)
	}
	add("ubdc", "", 0, "", "", "")
	add("ubdc1", "ubdc", 1, "ext4", "annex", linux)
	return out
}

// look is the machine as it is looked at before it boots.
func (d described) look() *inventory.Inventory {
	v := &inventory.Inventory{Nodes: disks(), Files: map[string]inventory.File{}, Dirs: map[string]bool{"/": true, "/home": true}, Sources: map[string]bool{}}
	v.Files[fstab.Path] = inventory.File{Data: []byte(strings.Join(d.Fstab, "\n") + "\n")}
	v.Files["/proc/cmdline"] = inventory.File{Data: []byte("rw root=/dev/ubda1 rootfstype=ext4 " + strings.Join(d.Words, " "))}
	v.Uses = []inventory.Use{{Node: "ubda1", How: inventory.Mounted, Where: "/", Kind: "ext4"}}
	for _, dir := range units.Dirs() {
		v.UnitFiles = append(v.UnitFiles, units.Place{Dir: dir, Tree: units.Tree{}})
	}
	packaged := v.UnitFiles[3].Tree // what comes with every system, as far as it matters
	packaged["systemd-user-sessions.service"] = units.Entry{Data: []byte("[Unit]\nAfter=remote-fs.target home.mount\n")}
	packaged["multi-user.target.wants/systemd-user-sessions.service"] = units.Entry{To: "../systemd-user-sessions.service"}
	packaged["remote-fs.target"] = units.Entry{Data: []byte("[Unit]\nDefaultDependencies=no\nAfter=remote-fs-pre.target\n")}
	packaged["multi-user.target.wants/remote-fs.target"] = units.Entry{To: "../remote-fs.target"}
	for path, lines := range d.Files {
		text := strings.Join(lines, "\n") + "\n"
		rel, in := strings.CutPrefix(path, units.Dirs()[0]+"/")
		link, is := strings.CutPrefix(lines[0], "-> ")
		switch {
		case in && is:
			v.UnitFiles[0].Tree[rel] = units.Entry{To: link}
		case in:
			v.UnitFiles[0].Tree[rel] = units.Entry{Data: []byte(text)}
		case strings.Contains(path, "system.conf"):
			v.System.Conf = append(v.System.Conf, []byte(text))
		default:
			v.Files[path] = inventory.File{Data: []byte(text)}
		}
	}
	for _, at := range d.Damage {
		spoil(v, at)
	}
	v.Blocked, v.Names, v.SwapFiles = map[string]bool{"/etc/hostname": true}, map[string]bool{"uid=daemon": true, "gid=users": true}, map[string]string{"/swapfile": "it has no signature of swap"}
	for _, u := range v.Units() {
		v.Dirs[u.Where] = v.Dirs[u.Where] || slices.Contains([]string{"/", "/var", "/srv", "/home"}, u.Where)
		v.Sources[u.What] = u.What == "/srv" || len(v.Files[u.What].Data) > 0
	}
	return v
}

// spoil does to the machine what bytes that are written over, "DISK FROM COUNT", do to it: to a
// table from the first byte on, else to the descriptors of what lies there.
func spoil(v *inventory.Inventory, at string) {
	var disk string
	var from, count int64
	if _, err := fmt.Sscanf(at, "%s %d %d", &disk, &from, &count); err != nil {
		panic(err)
	}
	for i := range v.Nodes {
		switch n := &v.Nodes[i]; {
		case from == 0 && n.Name == disk:
			n.Table = &table.Table{Scheme: table.GPT, Unseen: "the primary copy of its table is damaged"}
		case from == 0 && n.Parent == disk:
			n.Linux = inventory.KernelPart{}
		case from > 0 && n.Name == disk+"5":
			n.Contents = slices.Clone(n.Contents)
			n.Contents[0].AtMount.Any = "its descriptors are gone"
		}
	}
}

// said is what is foretold, in few words.
func said(r Report) (out []string) {
	out = []string{r.String()}
	if r.Why != "" {
		out[0] += ": " + r.Why
	}
	for _, l := range r.Lines {
		at := fmt.Sprint(l.Number)
		if l.File != "" {
			at = l.File
		}
		out = append(out, fmt.Sprintf("%s %s: %s", at, l.Dir, l.Outcome))
	}
	return append(out, r.Notes...)
}

// TestMachines: of every machine that the kernel's proof boots that is foretold which became of
// it there.
func TestMachines(t *testing.T) {
	list := machines(t)
	for i, d := range list {
		got := said(Rehearse(d.look()))
		if !slices.Equal(got, d.Is) && !*update {
			t.Errorf("%s:\n%s\nwant\n%s", d.Name, strings.Join(got, "\n"), strings.Join(d.Is, "\n"))
		}
		list[i].Is = got
	}
	if *update {
		var b bytes.Buffer
		enc := json.NewEncoder(&b)
		enc.SetEscapeHTML(false)
		enc.SetIndent("", " ")
		if err := enc.Encode(list); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(machinesFile, b.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// rule is one of the walk's: that units of one kind require, want or wait for those of another.
type rule struct{ from, how, to string }

// spoil takes a rule out of a graph.
func (r rule) spoil(g *graph) {
	is := func(n *node, what string) bool {
		return n.name == what || unit.Suffix(n.name) == what || strings.HasPrefix(n.name, what) && strings.HasSuffix(what, "@")
	}
	for _, n := range g.nodes {
		if !is(n, r.from) {
			continue
		}
		for _, list := range []*[]*node{&n.requires, &n.wants, &n.after} {
			how := map[*[]*node]string{&n.requires: "requires", &n.wants: "wants", &n.after: "after"}[list]
			if how == r.how {
				*list = slices.DeleteFunc(slices.Clone(*list), func(o *node) bool { return is(o, r.to) && o != n })
			}
		}
	}
}

// TestEveryRuleCounts: a rule that is taken out makes something else of at least one machine.
func TestEveryRuleCounts(t *testing.T) {
	list := machines(t)
	for _, r := range []rule{
		{".mount", "requires", ".device"}, {".mount", "requires", ".mount"}, {".swap", "requires", ".device"}, {".service", "requires", ".mount"},
		{localFS, "requires", ".mount"}, {localFS, "after", ".mount"}, {localFS, "after", ".service"}, {localFS, "wants", ".mount"}, {remote, "requires", ".mount"}, {remote, "after", ".mount"}, {localFS, "requires", ".automount"},
		{swaps, "after", ".swap"}, {sysinit, "after", swaps}, {sysinit, "after", "cryptsetup.target"}, {sysinit, "wants", localFS}, {sysinit, "wants", swaps}, {"cryptsetup.target", "after", "systemd-cryptsetup@"}, {basic, "requires", "var.mount"}, {multi, "requires", ".mount"}, {multi, "requires", basic},
		{"systemd-user-sessions.service", "after", remote}, {multi, "wants", ".mount"}, {multi, "wants", ".service"}, {".device", "requires", "systemd-cryptsetup@"}, {"systemd-cryptsetup@", "requires", ".device"}, {".mount", "after", ".mount"}, {".mount", "requires", "systemd-makefs@"},
	} {
		differ := 0
		for _, d := range list {
			m := prepared(d.look(), Next(d.look()))
			r.spoil(m.graph)
			if !slices.Equal(said(m.walked()), d.Is) {
				differ++
			}
		}
		if differ == 0 {
			t.Errorf("without %s %s %s every machine is foretold as before", r.from, r.how, r.to)
		}
	}
}
