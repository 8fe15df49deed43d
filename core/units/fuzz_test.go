package units

import (
	"testing"

	"fundus/core/text/fstab"
)

// FuzzToLine: any unit becomes a line or is refused; what the line becomes as units again is the
// same line.
func FuzzToLine(f *testing.F) {
	f.Add("srv-a.mount", []byte("[Unit]\nAfter=x.service\n[Mount]\nWhat=/dev/disk/by-uuid/a\nWhere=/srv/a\nType=ext4\nOptions=ro,nofail\n"), true)
	f.Add("dev-sdb1.swap", []byte("[Swap]\nWhat=/dev/sdb1\nPriority=5\n"), false)
	f.Add("a.mount", []byte("[Mount]\nWhat=%%i\\\n x\nWhere=//a/../b\nTimeoutSec=\n"), true)
	f.Fuzz(func(t *testing.T, name string, data []byte, wanted bool) {
		p := []Place{{Dirs()[0], Tree{name: {Data: data}}}}
		if wanted {
			p[0].Tree.link("local-fs.target.wants", name)
		}
		all := Load(p)
		if len(all) != 1 {
			return
		}
		e, err := ToLine(all[0], nil, p)
		if err != nil {
			return
		}
		m, err := FromLine(e, nil)
		if err != nil {
			return
		}
		p = placesOf(m)
		all = Load(p)
		var automount *Loaded
		if m.Main != m.Unit { // an option of the unit's own asked for it
			automount = find(all, m.Main)
		}
		back, err := ToLine(*find(all, m.Unit), automount, p)
		if err != nil {
			t.Fatalf("%+v: %v\n%s", e, err, m.Tree[m.Unit].Data)
		}
		if got, want := meaning(t, back), meaning(t, e); got != want {
			t.Fatalf("%+v\nbecame %+v\n%s\nwant\n%s", e, back, got, want)
		}
	})
}

// FuzzGenerate: of any table, under any command line, units are made without a panic, and each
// link leads to one of them or to a service of systemd's.
func FuzzGenerate(f *testing.F) {
	f.Add([]byte("UUID=a /srv/a ext4 x-systemd.automount,x-systemd.makefs 0 2\n"), "quiet")
	f.Add([]byte("a swap swap x-systemd.makefs\n/dev/x\t/\\040 auto\n"), `fstab="1" systemd.volatile=state`)
	f.Fuzz(func(t *testing.T, table []byte, line string) {
		made := Generate(fstab.Read(fstab.Parse(table), nil), Facts{Words: Words(line)})
		for _, tree := range []Tree{made.Normal, made.Late} {
			for path, e := range tree {
				if len(e.To) > 3 && e.To[:3] == "../" {
					if _, there := tree[e.To[3:]]; !there {
						t.Errorf("%s leads to %s", path, e.To)
					}
				}
			}
		}
	})
}
