package bootcfg

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"fundus/core/text"
)

const id, other = "5eed5eed-0000-4000-8000-000000020417", "11112222-3333-4444-8555-666677778888"

// files are written by hand in the forms of several distributions.
func files() map[string]string {
	return map[string]string{
		"menu": "# generated\nmenuentry 'Fernhill' {\n\tsearch --no-floppy --fs-uuid --set=root " + id + "\n\tlinux /vmlinuz-6.1 root=UUID=" + id + " ro quiet resume=UUID=" + other + "\n\tinitrd /initrd-6.1\n}\n" +
			"if [ x$feature = xy ]; then search --fs-uuid --set=root --hint='hd0,gpt1' 5EED-0417; fi\n",
		"defaults": "GRUB_CMDLINE_LINUX=\"rd.luks.uuid=luks-" + id + " root=/dev/mapper/vault-root\"\nGRUB_CMDLINE_LINUX_DEFAULT='resume=LABEL=swap quiet'\n#root=UUID=no\n",
		"entry":    "title Fernhill\nversion 6.1\noptions root=PARTUUID=" + id + " rw\nlinux /vmlinuz\n",
		"append":   "LABEL fernhill\n  KERNEL /vmlinuz\n  APPEND root=/dev/sda2 ro\n",
		"resume":   "RESUME=UUID=" + other,
		"arch":     "cryptdevice=UUID=" + id + ":vault root=/dev/mapper/vault\r\n",
	}
}

func find(data []byte) []text.Mention { return Syntax{}.Mentions(data) }

func said(list []text.Mention) string {
	var words []string
	for _, m := range list {
		words = append(words, fmt.Sprintf("%d %s %s", m.Line, m.By, m.Spec))
	}
	return strings.Join(words, "; ")
}

// TestOffsets: where a file to swap on is said to begin is found wherever it stands in a line.
func TestOffsets(t *testing.T) {
	got := Offsets([]byte("# resume_offset=1\nGRUB_CMDLINE_LINUX=\"resume=UUID=" + id + " resume_offset=34816\"\nresume_offset=12 quiet\nresume_offset=0x1\n"))
	want := []Offset{{2, 34816, "UUID=" + id}, {3, 12, ""}}
	if !slices.Equal(got, want) {
		t.Errorf("%v", got)
	}
}

// TestMentions: what names a device is found, with its line and what it is for, and
// nothing else is.
func TestMentions(t *testing.T) {
	for name, want := range map[string]string{
		"menu":     "3 search UUID=" + id + "; 4 root UUID=" + id + "; 4 resume UUID=" + other + "; 7 search UUID=5EED-0417",
		"defaults": "1 rd.luks.uuid UUID=" + id + "; 1 root /dev/mapper/vault-root; 2 resume LABEL=swap",
		"entry":    "3 root PARTUUID=" + id, "append": "3 root /dev/sda2",
		"resume": "1 RESUME UUID=" + other, "arch": "1 cryptdevice UUID=" + id + "; 1 root /dev/mapper/vault",
	} {
		if got := said(find([]byte(files()[name]))); got != want {
			t.Errorf("%s:\n%s\nwant\n%s", name, got, want)
		}
	}
}

// TestReplace: only the name changes, everywhere it stands, and back again every
// byte is as before.
func TestReplace(t *testing.T) {
	for name, file := range files() {
		for _, m := range find([]byte(file)) {
			to := "UUID=99990000-aaaa-4bbb-8ccc-ddddeeeeffff"
			changed, err := Syntax{}.Say([]byte(file), m, to)
			at := -1
			for i, x := range find(changed) {
				if x.Line == m.Line && x.Spec == to {
					at = i
				}
			}
			if err != nil || at < 0 || strings.Count(string(changed), "\n") != strings.Count(file, "\n") {
				t.Fatalf("%s: %q is not there in\n%s", name, to, changed)
			}
			if back, err := (Syntax{}).Say(changed, find(changed)[at], m.Spec); err != nil || string(back) != file {
				t.Errorf("%s: there and back:\n%s", name, back)
			}
		}
	}
	entry := []byte(files()["entry"])
	if _, err := (Syntax{}).Say(entry, find(entry)[0], "LABEL=two words"); !errors.Is(err, text.ErrUnsayable) {
		t.Errorf("a name with a blank: %v", err)
	}
}

// FuzzMentions: any file is scanned without a panic; each name, said again in its place,
// gives the same bytes.
func FuzzMentions(f *testing.F) {
	for _, file := range files() {
		f.Add([]byte(file))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, m := range find(data) {
			if again, err := (Syntax{}).Say(data, m, m.Spec); err != nil || !bytes.Equal(again, data) {
				t.Fatalf("%+v does not stand where it was found: %v", m, err)
			}
		}
	})
}

// TestEntries: of every form of menu the words of the kernel and whether an initial file system
// comes with it.
func TestEntries(t *testing.T) {
	for _, c := range []struct{ path, data, want string }{
		{"/boot/grub/grub.cfg", "set default=0\nmenuentry 'Fernhill' --class os {\n\tlinux /vmlinuz root=UUID=ab ro quiet\n\tinitrd /initrd.img\n}\nmenuentry \"Firmware\" {\n\tfwsetup\n}\nmenuentry 'plain' {\n\tlinux\t/vmlinuz root=/dev/sda1\n}\n",
			`2 "Fernhill" "root=UUID=ab ro quiet" true; 9 "plain" "root=/dev/sda1" false`},
		{"/boot/loader/entries/fernhill.conf", "title Fernhill, old\n# options none\nlinux /vmlinuz\ninitrd /initrd\noptions root=LABEL=a\noptions rw\n", `1 "Fernhill, old" "root=LABEL=a rw" true`},
		{"/boot/loader/entries/plain.conf", "linux /vmlinuz\n", `1 "plain" "" false`},
		{"/boot/extlinux/extlinux.conf", "DEFAULT a\nLABEL a\n  KERNEL /vmlinuz\n  APPEND initrd=/initrd root=/dev/sda1\nlabel b\n  linux /vmlinuz\n  append root=/dev/sdb1\n", `2 "a" "initrd=/initrd root=/dev/sda1" true; 5 "b" "root=/dev/sdb1" false`},
		{"/boot/grub/grub.cfg", "", ""},
	} {
		var got []string
		for _, e := range Entries(c.path, []byte(c.data)) {
			got = append(got, fmt.Sprintf("%d %q %q %v", e.Line, e.Title, e.Words, e.Initrd))
		}
		if s := strings.Join(got, "; "); s != c.want {
			t.Errorf("%s: %s, want %s", c.path, s, c.want)
		}
	}
}
