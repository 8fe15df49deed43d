package units

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"fundus/core/text/fstab"
)

// TestWords: the kernel's command line is taken apart at blanks outside of quotes, the last word
// of a name decides that has a sense, and dashes are underscores.
func TestWords(t *testing.T) {
	for text, want := range map[string]string{
		"":                                "true ",
		"quiet":                           "true ",
		"fstab=0":                         "false ",
		"fstab=no fstab":                  "true ",
		"fstab fstab=OFF":                 "false ",
		"fstab=0 fstab=maybe":             "false ",
		`x="fstab=0 y" root="UUID=a b"`:   "true UUID=a b",
		"root=a\troot='b'\n":              "true b",
		"root":                            "true ",
		"my_fstab=0 fstab_=0":             "true ",
		`fstab="0" root=/dev/x=y`:         "false /dev/x=y",
		"root=UUID=1 -- root=2 'fstab=0'": "false 2",
	} {
		l := Words(text)
		if got := fmt.Sprint(l.On("fstab", true), " ", l.Last("root")); got != want {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
	if l := Words("systemd.device-timeout=5"); l.Last("systemd.device_timeout") != "5" {
		t.Error("dashes are no underscores")
	}
}

// Example: what systemd makes of a table at each boot.
func ExampleGenerate() {
	table := fstab.Parse([]byte("tmpfs /srv/scans tmpfs size=50%,nofail 0 0\n"))
	made := Generate(fstab.Read(table, nil), Facts{Words: Words("quiet")})
	for _, path := range made.Normal.Paths() {
		fmt.Println(strings.TrimSpace(path + " " + made.Normal[path].To))
	}
	fmt.Print(string(made.Normal["srv-scans.mount"].Data))
	// Output:
	// local-fs.target.wants/srv-scans.mount ../srv-scans.mount
	// local-fs.target.wants/systemd-remount-fs.service /lib/systemd/system/systemd-remount-fs.service
	// srv-scans.mount
	// [Unit]
	// SourcePath=/etc/fstab
	//
	// [Mount]
	// What=tmpfs
	// Where=/srv/scans
	// Type=tmpfs
	// Options=size=50%%,nofail
}

// TestLines: each unit is known by its line.
func TestLines(t *testing.T) {
	table := fstab.Parse([]byte("# a\nLABEL=a /a ext4 x-systemd.automount\nLABEL=b none swap\n"))
	got := Generate(fstab.Read(table, nil), Facts{}).Lines
	var words []string
	for name, line := range got {
		words = append(words, fmt.Sprint(name, " ", line))
	}
	slices.Sort(words)
	if all := strings.Join(words, ", "); all != `a.automount 2, a.mount 2, dev-disk-by\x2dlabel-b.swap 3` {
		t.Error(all)
	}
}
