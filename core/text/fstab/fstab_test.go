package fstab

import (
	"bytes"
	"errors"
	"slices"
	"strings"
	"testing"
	"time"
)

const fernhill = "# fernhill\n\nUUID=8d0c\t/  ext4 errors=remount-ro 0 1\n  \t\nLABEL=FIELD\\040CARD /media/field\\011card vfat nofail,noauto 0 0\nUUID=e1 /srv/ferns # the herbarium\n/dev/sdb2 none swap sw"

func known(kind string) bool {
	return slices.Contains([]string{"ext4", "xfs", "vfat", "swap", "tmpfs", "auto", "none", ""}, kind)
}

// TestEditsTouchOneLine: each edit changes the bytes that it names, and its opposite gives
// the table back.
func TestEditsTouchOneLine(t *testing.T) {
	for _, c := range []struct {
		name, want string
		edit, back func(f *File) error
	}{
		{"add", fernhill + "\nUUID=77 /srv/seed\\040bank ext4 noatime 0 2\n", func(f *File) error {
			_, err := f.Add(Entry{Spec: "UUID=77", Dir: "/srv/seed bank", Type: "ext4", Options: []string{"noatime"}, Pass: 2}, 0)
			return err
		}, func(f *File) error { _, err := f.Remove(8); return err }},
		{"add a parent", strings.Replace(fernhill, "UUID=e1", "UUID=77 /srv ext4 defaults 0 0\nUUID=e1", 1), func(f *File) error {
			_, err := f.Add(Entry{Spec: "UUID=77", Dir: "/srv", Type: "ext4"}, 0)
			return err
		}, func(f *File) error { _, err := f.Remove(6); return err }},
		{"device", strings.Replace(fernhill, "UUID=8d0c\t", `LABEL=a\040b`+"\t", 1), func(f *File) error { return f.Set(3, SpecField, "LABEL=a b") }, func(f *File) error { return f.Set(3, SpecField, "UUID=8d0c") }},
		{"option added", strings.Replace(fernhill, "errors=remount-ro", "errors=remount-ro,noatime", 1), func(f *File) error { return f.AddOption(3, "noatime") }, func(f *File) error { return f.DropOption(3, "noatime") }},
		{"option changed", strings.Replace(fernhill, "remount-ro", "panic", 1), func(f *File) error { return f.AddOption(3, "errors=panic") }, func(f *File) error { return f.AddOption(3, "errors=remount-ro") }},
		{"last option dropped", strings.Replace(fernhill, "errors=remount-ro", "defaults", 1), func(f *File) error { return f.DropOption(3, "errors") }, func(f *File) error { return f.Set(3, OptionsField, "errors=remount-ro") }},
		{"first option dropped", strings.Replace(fernhill, "nofail,noauto", "noauto", 1), func(f *File) error { return f.DropOption(5, "nofail") }, func(f *File) error { return f.Set(5, OptionsField, "nofail,noauto") }},
		{"number of a short line", strings.Replace(fernhill, "/dev/sdb2 none swap sw", "/dev/sdb2 none swap sw 0 2", 1), func(f *File) error { return f.Set(7, PassField, "2") }, nil},
		{"disabled", strings.Replace(fernhill, "LABEL=", "# disabled: LABEL=", 1), func(f *File) error { _, err := f.Disable(5); return err }, func(f *File) error { _, err := f.Enable(5, known); return err }},
		{"moved", "# fernhill\n\nLABEL=FIELD\\040CARD /media/field\\011card vfat nofail,noauto 0 0\nUUID=8d0c\t/  ext4 errors=remount-ro 0 1\n  \t\nUUID=e1 /srv/ferns # the herbarium\n/dev/sdb2 none swap sw\n", func(f *File) error { return f.Move(5, 3) }, nil},
	} {
		f := Parse([]byte(fernhill))
		if err := c.edit(f); err != nil || string(f.Bytes()) != c.want {
			t.Errorf("%s: %v\n%q, want\n%q", c.name, err, f.Bytes(), c.want)
		}
		if c.back == nil {
			continue
		}
		if err := c.back(f); err != nil || strings.TrimSuffix(string(f.Bytes()), "\n") != fernhill {
			t.Errorf("%s, back: %v\n%q", c.name, err, f.Bytes())
		}
	}
}

// TestColumns: fields are found at their bytes, and where a terminal shows them.
func TestColumns(t *testing.T) {
	l := Parse([]byte(" LABEL=Gräser\t/srv/a  ext4\n")).Lines[0]
	for i, want := range [][3]int{{2, 2, 13}, {16, 17, 6}, {24, 25, 4}, {0, 0, 0}} {
		b, cells := l.Column(i)
		if b != want[0] || cells != want[1] || i < len(l.Fields) && len(l.Fields[i].Text) != want[2] {
			t.Errorf("field %d at byte %d, cell %d: %+v", i+1, b, cells, l.Fields)
		}
	}
}

// TestSpan: times as systemd reads them.
func TestSpan(t *testing.T) {
	for s, want := range map[string]time.Duration{"5": 5 * time.Second, "1min 3s": 63 * time.Second, "1h2m3s": 3723 * time.Second, ".5": time.Second / 2, "1.5h": 90 * time.Minute, "2 ms": 2 * time.Millisecond,
		"infinity": Forever, "0": 0, " 1w ": 7 * 24 * time.Hour, "200y 200y": Forever, "500000y": Forever, "300y 1s": Forever, "584942y": -1, "9999999999y": -1, "9999999999y 1s": -1, "400000y 400000y": -1, "9223372036854775808us": -1, "99999999999999999999": -1, "": -1, "soon": -1, "-5": -1, "5sx": -1, "5 5x": -1} {
		if got, ok := Span(s); ok != (want >= 0) || ok && got != want {
			t.Errorf("%q: %v, %v, want %v", s, got, ok, want)
		}
	}
}

// TestRefusedEdits: what a line cannot say is refused, and nothing is changed.
func TestRefusedEdits(t *testing.T) {
	for name, c := range map[string]struct {
		want error
		edit func(f *File) error
	}{
		"remove a comment":           {ErrNoEntry, func(f *File) error { _, err := f.Remove(1); return err }},
		"enable a sentence":          {ErrComment, func(f *File) error { _, err := f.Enable(1, known); return err }},
		"a carriage return":          {ErrUnsaid, func(f *File) error { return f.Set(3, DirField, "/a\rb") }},
		"a hash in front":            {ErrUnsaid, func(f *File) error { return f.Set(3, SpecField, "#a") }},
		"an empty field":             {ErrUnsaid, func(f *File) error { return f.Set(3, TypeField, "") }},
		"a line break in a place":    {ErrUnsaid, func(f *File) error { return f.Set(3, DirField, "/a\nb") }},
		"two options as one":         {ErrUnsaid, func(f *File) error { return f.AddOption(3, "ro,noatime") }},
		"an option after a lone \\":  {ErrUnsaid, func(f *File) error { return errors.Join(f.Set(3, OptionsField, `ro\`), f.AddOption(3, "noatime")) }},
		"a line that is too long":    {ErrUnsaid, func(f *File) error { return f.Set(3, OptionsField, strings.Repeat("ro,", 1400)+"nofail") }},
		"sort with two of one place": {ErrTwoPlace, func(f *File) error { return errors.Join(f.Set(6, DirField, "//"), f.Sort()) }},
	} {
		f := Parse([]byte(fernhill))
		if err := c.edit(f); !errors.Is(err, c.want) {
			t.Errorf("%s: %v, want %v", name, err, c.want)
		}
	}
	f := Parse([]byte("UUID=1 /a ext4\x00\nUUID=2 /b ext4\nUUID=3 /c ext4\n"))
	if _, err := f.Add(Entry{Spec: "UUID=4", Dir: "/d", Type: "ext4"}, 2); !errors.Is(err, ErrUnsaid) || len(f.Lines) != 3 {
		t.Errorf("behind a NUL byte: %v", err)
	}
}

// TestSort: parents come first and swap last, comments travel, groups stay.
func TestSort(t *testing.T) {
	const mixed = "# swap\nUUID=s none swap sw 0 0\n# deep\nUUID=1 /srv/a/b ext4\nUUID=2 /srv ext4\nUUID=3 / ext4\nUUID=4 /srv/a ext4\n# end\n\nUUID=5 /z/y ext4\nUUID=6 /z ext4"
	const want = "UUID=3 / ext4\nUUID=2 /srv ext4\nUUID=4 /srv/a ext4\n# deep\nUUID=1 /srv/a/b ext4\n# swap\nUUID=s none swap sw 0 0\n# end\n\nUUID=6 /z ext4\nUUID=5 /z/y ext4\n"
	f := Parse([]byte(mixed))
	if err := f.Sort(); err != nil || string(f.Bytes()) != want {
		t.Fatalf("%v\n%s", err, f.Bytes())
	}
	if err := f.Sort(); err != nil || string(f.Bytes()) != want {
		t.Errorf("again: %v\n%s", err, f.Bytes())
	}
}

// TestWas: lines that a person made comments of are told from sentences.
func TestWas(t *testing.T) {
	for raw, want := range map[string]string{
		"#UUID=1 /a ext4 defaults 0 2\n":                      "UUID=1 /a ext4 defaults 0 2\n",
		"  # \tLABEL=x none swap sw\n":                        "LABEL=x none swap sw\n",
		"#/swapfile none swap sw\n":                           "/swapfile none swap sw\n",
		"# / was on /dev/sda1 during installation\n":          "",
		"# <file system> <mount point> <type> <options>\n":    "",
		"# UUID=1 is the old disk of the herbarium\n":         "",
		"# disabled: anything /at all\n":                      "anything /at all\n",
		"# UUID=1 /a\n":                                       "",
		"# tmpfs /tmp tmpfs size=1G 0 0\n":                    "tmpfs /tmp tmpfs size=1G 0 0\n",
		"# PARTUUID=1 /media/card nosuchkind noauto,user 0\n": "",
	} {
		was, ok := Parse([]byte(raw)).Lines[0].Was(known)
		if was.Raw != want || ok != (want != "") {
			t.Errorf("%q: %q, %v, want %q", raw, was.Raw, ok, want)
		}
	}
}

// FuzzLossless: any bytes are kept; an entry that is written is read as the same entry; an
// edit leaves the bytes around it; enable gives back what disable took.
func FuzzLossless(f *testing.F) {
	f.Add([]byte(fernhill), "UUID=1", "/srv/a b", "noatime", uint8(3))
	f.Add([]byte("\\040\\"), "#x", "/\\", "a,b", uint8(1))
	f.Add([]byte("a /b\x00c\nd /e x y,z,\\,q 0 0\n"), "x", "a", `\`, uint8(2))
	f.Fuzz(func(t *testing.T, data []byte, spec, dir, option string, at uint8) {
		table := Parse(data)
		if !bytes.Equal(table.Bytes(), data) {
			t.Fatal("bytes are lost")
		}
		Read(table, nil)
		if l, ok := table.Line(int(at)); ok && l.Entry != nil {
			edited(t, data, l, spec, option)
		}
		e := Entry{Spec: spec, Dir: "/" + dir, Type: "ext4", Options: Split(option)}
		line, err := table.Add(e, 0)
		if err != nil {
			return
		}
		if got := *line.Entry; got.Spec != spec || got.Dir != "/"+dir || len(e.Options) > 0 && !slices.Equal(got.Options, e.Options) {
			t.Fatalf("wrote %+v, read %+v", e, got)
		}
		if table.Remove(line.Number); !bytes.Equal(bytes.TrimSuffix(table.Bytes(), []byte("\n")), bytes.TrimSuffix(data, []byte("\n"))) {
			t.Fatal("Add changed what was there")
		}
	})
}

// edited holds each edit of a line against what it was to be.
func edited(t *testing.T, data []byte, l Line, spec, option string) {
	others := func(f *File) string {
		var b strings.Builder
		for _, o := range f.Lines {
			if o.Number != l.Number {
				b.WriteString(o.Raw)
			}
		}
		return b.String()
	}
	before := others(Parse(data))
	for name, edit := range map[string]func(f *File) error{
		"device": func(f *File) error { return f.Set(l.Number, SpecField, spec) },
		"option": func(f *File) error { return f.AddOption(l.Number, option) },
		"drop":   func(f *File) error { return f.DropOption(l.Number, option) },
		"toggle": func(f *File) error {
			_, err := f.Disable(l.Number)
			if _, back := f.Enable(l.Number, known); back == nil && !bytes.Equal(f.Bytes(), data) {
				t.Fatal("enable does not give back what disable took")
			}
			return err
		},
	} {
		f := Parse(data)
		err := edit(f)
		after, _ := f.Line(l.Number)
		switch {
		case err != nil && !bytes.Equal(f.Bytes(), data):
			t.Fatalf("%s: refused, and changed", name)
		case err != nil:
		case others(f) != before:
			t.Fatalf("%s: another line is changed", name)
		case name == "device" && after.Entry.Spec != spec, name == "drop" && after.Entry.Has(option) && !strings.Contains(option, "="):
			t.Fatalf("%s: %+v", name, after.Entry)
		case name == "option" && !slices.Contains(after.Entry.Options, option):
			t.Fatalf("%s %q: %+v", name, option, after.Entry)
		}
	}
}
