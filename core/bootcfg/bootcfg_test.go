package bootcfg

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
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
		"crypttab": "vault UUID=" + id + " none luks,discard\nscratch /dev/sdb3 /dev/urandom swap\n",
		"resume":   "RESUME=UUID=" + other,
		"arch":     "cryptdevice=UUID=" + id + ":vault root=/dev/mapper/vault\r\n",
	}
}

func said(list []Mention) string {
	var words []string
	for _, m := range list {
		words = append(words, fmt.Sprintf("%d %s %s", m.Line, m.By, m.Spec))
	}
	return strings.Join(words, "; ")
}

// TestScan: what names a device is found, with its line and what it is for, and
// nothing else is.
func TestScan(t *testing.T) {
	for name, want := range map[string]string{
		"menu":     "3 search UUID=" + id + "; 4 root UUID=" + id + "; 4 resume UUID=" + other + "; 7 search UUID=5EED-0417",
		"defaults": "1 rd.luks.uuid UUID=" + id + "; 1 root /dev/mapper/vault-root; 2 resume LABEL=swap",
		"entry":    "3 root PARTUUID=" + id, "append": "3 root /dev/sda2", "crypttab": "1  UUID=" + id + "; 2  /dev/sdb3; 2  /dev/urandom",
		"resume": "1 RESUME UUID=" + other, "arch": "1 cryptdevice UUID=" + id + "; 1 root /dev/mapper/vault",
	} {
		if got := said(Scan([]byte(files()[name]))); got != want {
			t.Errorf("%s:\n%s\nwant\n%s", name, got, want)
		}
	}
}

// TestReplace: only the name changes, everywhere it stands, and back again every
// byte is as before.
func TestReplace(t *testing.T) {
	for name, text := range files() {
		for _, m := range Scan([]byte(text)) {
			to := "UUID=99990000-aaaa-4bbb-8ccc-ddddeeeeffff"
			changed := Replace([]byte(text), []Mention{m}, to)
			at := -1
			for i, x := range Scan(changed) {
				if x.Line == m.Line && x.Spec == to {
					at = i
				}
			}
			if at < 0 || strings.Count(string(changed), "\n") != strings.Count(text, "\n") {
				t.Fatalf("%s: %q is not there in\n%s", name, to, changed)
			}
			if back := Replace(changed, Scan(changed)[at:at+1], m.Spec); string(back) != text {
				t.Errorf("%s: there and back:\n%s", name, back)
			}
		}
	}
	if Fits("LABEL=two words") || !Fits("LABEL=herbarium") {
		t.Error("what fits")
	}
}

// FuzzScan: any file is scanned without a panic; to replace nothing, or each name
// by itself, gives the same bytes.
func FuzzScan(f *testing.F) {
	for _, text := range files() {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		list := Scan(data)
		if !bytes.Equal(Replace(data, nil, "UUID=x"), data) {
			t.Fatal("nothing replaced, and changed")
		}
		for _, m := range list {
			if !bytes.Equal(Replace(data, []Mention{m}, m.Spec), data) {
				t.Fatalf("%+v does not stand where it was found", m)
			}
		}
	})
}
