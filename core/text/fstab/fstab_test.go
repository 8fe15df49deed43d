package fstab

import (
	"bytes"
	"errors"
	"strings"
	"testing"
)

const fernhill = "# fernhill\n\nUUID=8d0c\t/  ext4 errors=remount-ro 0 1\n  \t\nLABEL=FIELD\\040CARD /media/field\\011card vfat nofail,noauto 0 0\nbroken line\n/dev/sdb2 none swap sw"

// TestEditsTouchOneLine: adding and removing leave every other byte, and
// removing what was added gives the table back but for its last newline.
func TestEditsTouchOneLine(t *testing.T) {
	f := Parse([]byte(fernhill))
	line, err := f.Add(Entry{Spec: "UUID=77", Dir: "/srv/seed bank", Type: "ext4", Options: []string{"noatime"}, Pass: 2})
	if err != nil {
		t.Fatal(err)
	}
	want := fernhill + "\nUUID=77 /srv/seed\\040bank ext4 noatime 0 2\n"
	if got := string(f.Bytes()); got != want {
		t.Fatalf("Add:\n%q, want\n%q", got, want)
	}
	if _, err := f.Remove(line.Number); err != nil || string(f.Bytes()) != fernhill+"\n" {
		t.Errorf("Remove: %v\n%q", err, f.Bytes())
	}
	if _, err := f.Remove(3); err != nil || strings.Contains(string(f.Bytes()), "8d0c") || !strings.HasPrefix(string(f.Bytes()), "# fernhill\n\n  \t\n") {
		t.Errorf("Remove(3): %v\n%q", err, f.Bytes())
	}
	if _, err := f.Remove(1); !errors.Is(err, ErrNoEntry) {
		t.Errorf("removing a comment = %v", err)
	}
}

func TestMeaning(t *testing.T) {
	f := Parse([]byte(fernhill))
	if len(f.Entries()) != 3 || !errors.Is(f.Lines[5].Err, ErrFields) {
		t.Fatalf("entries %d, line 6: %v", len(f.Entries()), f.Lines[5].Err)
	}
	card := f.Entries()[1].Entry
	if card.Spec != "LABEL=FIELD CARD" || card.Dir != "/media/field\tcard" || !card.Has("nofail") || card.Has("fail") {
		t.Errorf("%+v", card)
	}
	if v, ok := f.Entries()[0].Entry.Value("errors"); v != "remount-ro" || !ok {
		t.Errorf("errors = %q, %v", v, ok)
	}
	for raw, want := range map[string]error{"a b c d 0 900\n": ErrNumber, "a b c d x\n": ErrNumber, "a b c d\n": ErrPoint, "a /b c\n": ErrFields, "a /b c d 0 0 0\n": ErrFields} {
		if l := parseLine(1, raw); !errors.Is(l.Err, want) {
			t.Errorf("%q: %v, want %v", raw, l.Err, want)
		}
	}
}

// FuzzLossless: any bytes are kept, and an entry that is written is read as
// the same entry.
func FuzzLossless(f *testing.F) {
	f.Add([]byte(fernhill), "UUID=1", "/srv/a b", "noatime")
	f.Add([]byte("\\040\\"), "#x", "/\\", "a,b")
	f.Fuzz(func(t *testing.T, data []byte, spec, dir, option string) {
		table := Parse(data)
		if !bytes.Equal(table.Bytes(), data) {
			t.Fatal("bytes are lost")
		}
		e := Entry{Spec: spec, Dir: "/" + dir, Type: "ext4", Options: []string{option}}
		line, err := table.Add(e)
		if err != nil {
			return
		}
		if option == "" {
			option = "defaults"
		}
		if got := line.Entry; got.Spec != spec || got.Dir != "/"+dir || strings.Join(got.Options, ",") != option {
			t.Fatalf("wrote %+v, read %+v", e, got)
		}
		if !bytes.HasPrefix(table.Bytes(), data) {
			t.Fatal("Add changed what was there")
		}
	})
}
