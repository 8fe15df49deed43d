package config

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
)

func write(t *testing.T, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "config.yaml")
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// TestLoad: the user's file wins over the machine's, key by key; each value says
// where it is from; what no file has keeps its default.
func TestLoad(t *testing.T) {
	machine := write(t, "sizes: si\npatience: 3s\nfstab:\n  options:\n    ext4: [noatime, lazytime]\n  bus:\n    usb: nofail\n")
	user := write(t, "# of the curator\nsizes: bytes\ndeeds:\n  keep: 12\n")
	c := Load(machine, "", filepath.Join(t.TempDir(), "missing"), user)
	if len(c.Faults) > 0 {
		t.Fatal(c.Faults)
	}
	if c.Sizes != "bytes" || c.Patience != 3*time.Second || c.Deeds != 12 || c.Colour != "auto" || c.Images != 1<<30 {
		t.Errorf("%+v", c)
	}
	if got := strings.Join(c.MountOptions("ext4", "usb"), ","); got != "noatime,lazytime,nofail" {
		t.Errorf("ext4 on usb: %s", got)
	}
	if got := c.MountOptions("xfs", "sata"); got != nil {
		t.Errorf("xfs on sata: %v", got)
	}
	from := map[string]string{}
	for _, s := range c.Entries() {
		from[s.Key] = s.Value + " " + s.From
		if s.Purpose == "" {
			t.Errorf("%s has no purpose", s.Key)
		}
	}
	for key, want := range map[string]string{"sizes": "bytes " + user + ":2", "patience": "3s " + machine + ":2", "alignment": "1 MiB default", "drafts.age": "24h default",
		"fstab.options.ext4": "noatime,lazytime " + machine + ":5", "deeds.keep": "12 " + user + ":4"} {
		if from[key] != want {
			t.Errorf("%s: %q, want %q", key, from[key], want)
		}
	}
}

// TestFaults: each line that means nothing is named, and the rest stays in
// force.
func TestFaults(t *testing.T) {
	path := write(t, "sizes: iec\nsises: si\npatience: 0s\nalignment: 3MiB\nfstab:\n  options: noatime\n  bus:\n    usb: {a: b}\ncolour: never\ndeeds: 3\n")
	c := Load(path)
	var got []string
	for _, f := range c.Faults {
		got = append(got, strings.TrimPrefix(f.Error(), path))
	}
	slices.Sort(got)
	want := []string{`:10: deeds has keys of its own below it; there is images, keep`, `:2: there is no key "sises"; there is sizes, colour`, `:3: patience: "0s": a time from 1s`, `:4: alignment: "3MiB"`,
		`:6: fstab.options has keys of its own below it`, `:8: fstab.bus.usb: a word or a list`}
	if len(got) != len(want) {
		t.Fatalf("faults: %s", strings.Join(got, "\n"))
	}
	for i := range want {
		if !strings.HasPrefix(got[i], want[i]) {
			t.Errorf("got %s, want %s", got[i], want[i])
		}
	}
	if c.Colour != "never" || c.Patience != 10*time.Second || c.Alignment != 1<<20 {
		t.Errorf("in force: %+v", c)
	}
}

// FuzzLoad: no file makes it panic or take a value that its key refuses.
func FuzzLoad(f *testing.F) {
	f.Add("sizes: si\nfstab:\n  bus: {usb: [a, b]}\n")
	f.Add("a: &x [*x]\nb: *x\n")
	f.Fuzz(func(t *testing.T, text string) {
		c := Load(write(t, text))
		again := Default()
		for _, s := range c.Entries() {
			if s.From == "default" {
				continue
			}
			if err := again.Prefer(s.Key, strings.ReplaceAll(s.Value, " ", ""), "here"); err != nil && !strings.Contains(s.Key, "*") && !strings.Contains(s.Value, ".") {
				t.Errorf("%s=%q: %v", s.Key, s.Value, err)
			}
		}
	})
}
