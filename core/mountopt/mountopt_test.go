package mountopt

import (
	"fmt"
	"strings"
	"testing"
)

// fern is a made-up kind.
func fern() Table {
	return For("fern", []Option{Flag("leafy", "").Against("bare").Usual(), Flag("bare", "").Against("leafy"), With("every", Number, "").If(Journal), With("fence", Number, "").Or().Against("nofence").Usual(), Flag("nofence", "").Against("fence"), OneOf("grow", "", "up", "down").Or(),
		With("mask", Octal, ""), With("size", Size, ""), With("shift", Signed, ""), With("step", Power, ""), Flag("rescue", "").If(ReadOnly), Flag("old", "").Only("fern2"), {Name: "gone", Alone: true, To: Own, Gone: true}})
}

func said(faults []Fault) string {
	var out []string
	for _, f := range faults {
		out = append(out, strings.TrimSpace(fmt.Sprintf("%s %s %s", f.Option, f.Trouble, f.Instead)))
	}
	return strings.Join(out, "; ")
}

func TestCheck(t *testing.T) {
	for options, want := range map[string]string{
		"ro,noatime,bare,grow,grow=up,every=3,mask=022,size=64k,shift=-3,step=8": "",
		"bar":                                "bar unknown bare",
		"NoAuto":                             "NoAuto unknown noauto",
		"noatiem":                            "noatiem unknown noatime",
		"nothing-near":                       "nothing-near unknown",
		"old":                                "old unknown",
		" bare":                              "bare unknown bare",
		"bare=1":                             "bare=1 bad value bare",
		"every":                              "every bad value",
		"every=often,mask=9,grow=sideways":   "every=often bad value; mask=9 bad value; grow=sideways bad value",
		"size=64kk,shift=x,step=3":           "size=64kk bad value; shift=x bad value; step=3 bad value",
		"every=0x10,every=017,step=0":        "",
		"every=1_0":                          "every=1_0 bad value",
		"rescue":                             "rescue needs ro,rescue",
		"rescue,ro":                          "",
		"leafy":                              "leafy needless",
		"gone":                               "gone no effect",
		"bare,leafy":                         "bare overruled; leafy needless",
		"leafy,bare,leafy":                   "bare overruled; leafy needless",
		"fence":                              "fence needless",
		"fence=1,bare":                       "fence=1 needless",
		"fence=0":                            "",
		"nofail,fail":                        "nofail overruled; fail unknown",
		"x-anything=1,comment=what,defaults": "",
		"X-mount.mkdir,X-fstrim.notrim,X-any=1,helper=a,uhelper=b": "",
	} {
		if got := said(fern().Check(strings.Split(options, ","), func(Need) bool { return true })); got != want {
			t.Errorf("%s: %q, want %q", options, got, want)
		}
	}
	none := func(Need) bool { return false }
	if got := said(fern().Check([]string{"every=3"}, none)); got != "every=3 needs" {
		t.Errorf("without a journal: %q", got)
	}
	if got := said(For("moss", nil).Check([]string{"ro", "soft"}, nil)); got != "soft untold" {
		t.Errorf("of a kind that is not known: %q", got)
	}
}

func TestSort(t *testing.T) {
	for options, want := range map[string]string{
		"defaults,rw":             "[rw] [] [] [] [defaults] []",
		"user,noauto":             "[] [nosuid nodev noexec] [] [] [noauto] [user]",
		"user,exec,dev":           "[] [nosuid exec dev] [] [] [] [user]",
		"exec,users":              "[] [nosuid nodev noexec] [] [] [] [users]",
		"group,ro,rw,ro":          "[ro] [nosuid nodev] [] [] [] [group]",
		"bind,rslave,bare,odd=1":  "[] [] [bare odd=1] [bind] [] []",
		"x-systemd.automount,who": "[] [] [who] [] [x-systemd.automount] []",
	} {
		s := fern().Sort(strings.Split(options, ","))
		if got := fmt.Sprint(s.Superblock, " ", s.Attributes, " ", s.Own, " ", s.Program, " ", s.Boot, " ", s.Rights); got != want {
			t.Errorf("%s: %s, want %s", options, got, want)
		}
	}
}

func TestDiffer(t *testing.T) {
	for _, c := range []struct{ asked, mount, super, want string }{
		{"defaults", "rw,relatime", "rw", ""},
		{"noatime,nofail", "rw,noatime", "rw,every=5", ""},
		{"noatime", "rw,relatime", "rw", "without noatime"},
		{"defaults", "rw,nosuid,relatime", "rw", "with nosuid"},
		{"user", "rw,nosuid,nodev,noexec,relatime", "rw", ""},
		{"user,exec", "rw,nosuid,nodev,noexec", "rw", "without exec"},
		{"ro", "rw,relatime", "rw", "rw"},
		{"defaults", "ro,relatime", "ro", "ro"},
		{"defaults", "rw,relatime", "ro", "ro"},
		{"ro", "ro,relatime", "rw", ""},
		{"every=3", "rw", "rw,every=7", "with every=7"},
		{"every=5", "rw", "rw", ""}, // its default, which the kernel does not list
	} {
		if got := strings.Join(fern().Differ(strings.Split(c.asked, ","), c.mount, c.super), ", "); got != c.want {
			t.Errorf("%s against %s and %s: %q, want %q", c.asked, c.mount, c.super, got, c.want)
		}
	}
}

// TestKernelIsRight: of what a running kernel was asked about it is right, and the rows stand
// for the rest.
func TestKernelIsRight(t *testing.T) {
	answers := Answers{"every=3": "Linux 9 says: gone", "newer": "", "nothing-near": "Linux 9 says: Unknown parameter", "not asked here": "Linux 9 says: no"}
	has := func(Need) bool { return true }
	if got, want := said(fern().CheckBy([]string{"every=3", "newer", "leafy", "nothing-near", "elsewhere"}, has, answers)), "every=3 bad value; leafy needless; nothing-near unknown; elsewhere unknown"; got != want {
		t.Errorf("%s", got)
	}
}
