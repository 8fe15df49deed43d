package units

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"fundus/core/text/fstab"
	"fundus/core/text/unit"
)

// entryOf is a line of pieces that mean something.
func entryOf(r *rand.Rand) fstab.Entry {
	one := func(words ...string) string { return words[r.IntN(len(words))] }
	e := fstab.Entry{Spec: one("UUID=ab-cd", "LABEL=seed bank", "LABEL=a/b%", "PARTUUID=01-02", "/dev/sdb1", "/dev/mapper/vault-images", "tmpfs", "fern:/export", "/srv/image", "LABEL=é"),
		Dir: one("/srv/scans", "/srv/seed bank", "/srv/50%", "/srv/.hidden/x-y", "/media/card"), Type: one("ext4", "xfs", "vfat", "auto", "tmpfs", "nfs", "none"), Pass: r.IntN(3)}
	if r.IntN(5) == 0 {
		e.Dir, e.Type, e.Pass = "none", fstab.Swap, 0
	}
	list := []string{"ro", "noatime", "nofail", "noauto", "_netdev", "discard", "pri=5", "size=50%", "x-systemd.device-timeout=5s", "x-systemd.device-timeout=0"}
	if !e.IsSwap() {
		list = append(list, "x-systemd.automount", "x-systemd.automount", "x-systemd.idle-timeout=60", "x-systemd.mount-timeout=1min 30s", "x-systemd.requires=/srv/other", "x-systemd.after=foo.service", "x-systemd.before=b.mount", "x-systemd.requires-mounts-for=/a%b",
			"x-systemd.rw-only", "x-systemd.wanted-by=a.target", "x-systemd.required-by=c.service", "fail", "auto", "defaults", "umask=077")
	}
	for range r.IntN(6) {
		if o := one(list...); !slices.Contains(e.Options, o) {
			e.Options = append(e.Options, o)
		}
	}
	if len(e.Options) == 0 {
		e.Options = []string{"defaults"}
	}
	return e
}

// meaning is what systemd makes of a line, without the words that only the line has.
func meaning(t *testing.T, e fstab.Entry) string {
	t.Helper()
	line, err := (&fstab.File{}).Add(e, 0)
	if err != nil {
		t.Fatal(err)
	}
	u := fstab.Read(fstab.Parse([]byte(line.Raw)), nil)[0]
	options := slices.DeleteFunc(slices.Clone(u.Options), func(o string) bool { return lineOnly(o) || !e.IsSwap() && o == "nofail" }) // that it is late says the same
	slices.Sort(options)
	slices.SortFunc(u.By, func(a, b fstab.Pull) int { return strings.Compare(a.Target+string(a.Tie), b.Target+string(b.Tie)) })
	needs := map[string][]string{}
	for _, key := range []string{"x-systemd.requires", "x-systemd.after", "x-systemd.before", "x-systemd.requires-mounts-for"} {
		for _, v := range u.Entry.Values(key) {
			name := v
			if key != "x-systemd.requires-mounts-for" {
				name, _ = unit.Meant(v)
			}
			needs[key] = append(needs[key], name)
		}
		slices.Sort(needs[key])
	}
	type_ := u.Entry.Type
	return fmt.Sprint(u.None, u.What, u.Where, type_, u.Tie, u.By, u.Late, u.Check, options, u.Automount, u.Device, fstab.IsTime(u.Mount), u.Mount, u.Idle, u.Entry.Has("x-systemd.rw-only"), needs)
}

// placesOf puts units into the first directory.
func placesOf(m Made) []Place { return []Place{{Dirs()[0], m.Tree}} }

// find gives a unit of the name.
func find(all []Loaded, name string) *Loaded {
	for i := range all {
		if all[i].Name == name {
			return &all[i]
		}
	}
	return nil
}

// TestRoundTrip: of lines at random, what can be said by units means the same as a line again.
func TestRoundTrip(t *testing.T) {
	r := rand.New(rand.NewPCG(20261129, 22))
	same, refused := 0, map[string]int{}
	for range 6000 {
		e := entryOf(r)
		m, err := FromLine(e, nil)
		if err != nil {
			if !errors.Is(err, ErrConvert) {
				t.Fatalf("%+v: %v", e, err)
			}
			refused[err.Error()]++
			continue
		}
		places := placesOf(m)
		all := Load(places)
		var automount *Loaded
		if m.Main != m.Unit {
			automount = find(all, m.Main)
		}
		back, err := ToLine(*find(all, m.Unit), automount, places)
		if err != nil {
			t.Fatalf("%+v: %v\n%s", e, err, m.Tree[m.Unit].Data)
		}
		if got, want := meaning(t, back), meaning(t, e); got != want {
			t.Fatalf("%+v\nbecame %+v\n%s\nwant\n%s\nby\n%s", e, back, got, want, m.Tree[m.Unit].Data)
		}
		same++
	}
	t.Logf("%d lines mean the same as units and as lines again; refused: %v", same, refused)
	if same < 3000 {
		t.Errorf("only %d", same)
	}
}

// TestUnsayable: each reason for a refusal, in both directions.
func TestUnsayable(t *testing.T) {
	line := func(spec, dir, typ string, options ...string) fstab.Entry {
		return fstab.Entry{Spec: spec, Dir: dir, Type: typ, Options: options}
	}
	for want, e := range map[string]fstab.Entry{
		"before systemd reads":           line("UUID=a", "/", "ext4", "defaults"),
		"/usr is mounted":                line("UUID=a", "/usr", "ext4", "defaults"),
		"option user has":                line("UUID=a", "/srv/a", "ext4", "user"),
		"x-systemd.makefs has":           line("UUID=a", "/srv/a", "ext4", "x-systemd.makefs"),
		"x-systemd.growfs has":           line("UUID=a", "/srv/a", "ext4", "x-systemd.growfs"),
		"the initial file system":        line("UUID=a", "/srv/a", "ext4", "x-initrd.mount"),
		"is no path, and a unit of swap": line("uuid=a", "none", "swap", "sw"),
		"no path from the root":          line("UUID=a", "/srv/a", "ext4", "x-systemd.requires-mounts-for=rel"),
		"would have 309 letters":         line("UUID=a", "/"+strings.Repeat("-", 75)+"srv", "ext4", "defaults"),
		"makes more of":                  line("fern:/a", "/srv/a", "nfs", "bg"),
		string(fstab.OfSystemd):          line("proc", "/proc", "proc", "defaults"),
		string(fstab.Dies):               line("UUID=a", "/srv/a", "ext4", "x-systemd.device-timeout"),
		"with a backslash at its end":    line("UUID=a", `/srv/a\`, "ext4", "defaults"),
		"a broken unit of the line br":   line("UUID=a", "/srv/a\nb", "ext4", "defaults"),
		string(fstab.NoName):             line("UUID=a", "/srv/../a", "ext4", "defaults"),
		"x-systemd.requires, after or b": line("UUID=a", "/srv/a", "ext4", "x-systemd.requires="),
	} {
		if _, err := FromLine(e, nil); !errors.Is(err, ErrConvert) || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v, want %q", e, err, want)
		}
	}
	const head = "[Mount]\nWhat=/dev/disk/by-uuid/a\nWhere=/srv/a\n"
	for want, c := range map[string]struct{ name, text, more string }{
		"LazyUnmount= in [Mount]":          {"srv-a.mount", head + "LazyUnmount=yes\n", ""},
		"DirectoryMode= in [Mount]":        {"srv-a.mount", head + "DirectoryMode=0700\n", ""},
		"ConditionPathExists= in [Unit]":   {"srv-a.mount", "[Unit]\nConditionPathExists=/x\n" + head, ""},
		"User= in [Mount]":                 {"srv-a.mount", head + "User=curator\n", ""},
		"Alias= in [Install]":              {"srv-a.mount", head + "[Install]\nAlias=b.mount\n", ""},
		"Requires=x.service without After": {"srv-a.mount", "[Unit]\nRequires=x.service\n" + head, ""},
		"changes it from outside":          {"srv-a.mount", head, "srv-a.mount.d/x.conf"},
		"requires it":                      {"srv-a.mount", head + "Options=nofail\n", "local-fs.target.requires/srv-a.mount"},
		"is masked":                        {"srv-a.mount", "", ""},
		"has no word for x-systemd.after":  {"dev-sdb1.swap", "[Unit]\nAfter=x.service\n[Swap]\nWhat=/dev/sdb1\n", ""},
		"and not by swap.target":           {"dev-sdb1.swap", "[Swap]\nWhat=/dev/sdb1\n", "local-fs.target.wants/dev-sdb1.swap"},
	} {
		places := []Place{{Dirs()[0], Tree{c.name: {Data: []byte(c.text)}}}}
		if c.more != "" {
			places[0].Tree[c.more] = Entry{Data: []byte("[Unit]\nDescription=x\n")}
		}
		if _, err := ToLine(Load(places)[0], nil, places); !errors.Is(err, ErrConvert) || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", c.text, err, want)
		}
	}
}

// TestLoad: of several files with a name the first directory's counts, drop-ins of all add to it,
// and an empty file or a link to nothing masks it.
func TestLoad(t *testing.T) {
	file := func(text string) Entry { return Entry{Data: []byte(text)} }
	all := Load([]Place{
		{"/etc/systemd/system", Tree{
			"a.mount": file("[Mount]\nWhat=/dev/sda1\nWhere=/a\nOptions=ro\n"), "b.mount": {To: "/dev/null"}, "a.mount.d/20-x.conf": file("[Mount]\nOptions=noatime\n"),
			"local-fs.target.wants/a.mount": {To: "../a.mount"}, "x.service.requires/a.mount": {To: "/etc/systemd/system/a.mount"}, "other.service": file(""),
		}},
		{"/usr/lib/systemd/system", Tree{"a.mount": file("[Mount]\nWhat=/dev/sdz1\nWhere=/a\n"), "b.mount": file("[Mount]\nWhere=/b\n"), "a.mount.d/20-x.conf": file("[Mount]\nOptions=exec\n"), "a.mount.d/10-y.conf": file("[Mount]\nOptions=sync\nType=ext4\n"), "c.automount": file("[Automount]\nWhere=/c\n")}},
	})
	var got []string
	for _, l := range all {
		got = append(got, fmt.Sprint(l.Name, " ", l.Path, l.Masked, " ", l.What(), " ", l.Where(), l.Options(), l.Get("Mount", "Type"), l.DropIns, len(l.By), l.Tie(), l.Hidden))
	}
	want := []string{
		"a.mount /etc/systemd/system/a.mountfalse /dev/sda1 /a[noatime]ext4[/usr/lib/systemd/system/a.mount.d/10-y.conf /etc/systemd/system/a.mount.d/20-x.conf] 2required[/usr/lib/systemd/system/a.mount]",
		"b.mount /etc/systemd/system/b.mounttrue  [][] 0not at boot[/usr/lib/systemd/system/b.mount]",
		"c.automount /usr/lib/systemd/system/c.automountfalse  /c[][] 0not at boot[]",
	}
	if !slices.Equal(got, want) {
		t.Errorf("%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}
