package fstab

import (
	"cmp"
	"os"
	"strconv"
	"strings"
	"testing"

	"fundus/core/text"
)

// said is what is foretold of a table, in words.
func said(units []Unit) string {
	var all []string
	for _, u := range units {
		if u.None != "" {
			all = append(all, "none: "+string(u.None))
			continue
		}
		words := []string{string(u.Tie)}
		for _, p := range u.By {
			words = append(words, "by "+p.Target)
		}
		if words = append(words, u.What); !u.Entry.IsSwap() {
			words = append(words, "at "+u.Where, "as "+cmp.Or(u.Entry.Type, "any"))
		}
		if u.Automount {
			words = append(words, "automount")
		}
		if u.Check {
			words = append(words, "check")
		}
		for _, t := range []struct{ name, value string }{{"waits", u.Device}, {"within", u.Mount}, {"idle", u.Idle}, {"options", strings.Join(u.Options, ",")}} {
			if t.value != "" {
				words = append(words, t.name+" "+t.value)
			}
		}
		all = append(all, strings.Join(words, " "))
	}
	return strconv.Quote(strings.Join(all, " | "))
}

// places are the links and directories of the cases.
func places(dir string) (string, bool) {
	real, _, ok := text.Follow(dir, func(path string) text.Found {
		if link := map[string]string{"/srv/link": "/srv/real", "/srv/dangling": "nowhere/yet", "/srv/real/up": "../deep", "/srv/loop": "loop"}[path]; link != "" {
			return text.Found{Link: link}
		}
		switch path {
		case "/srv", "/srv/real", "/srv/deep", "/srv/deep/er", "/boot":
			return text.Found{Dir: true}
		case "/srv/file":
			return text.Found{}
		}
		return text.Found{Missing: true}
	})
	return real, ok
}

// TestCases: what systemd makes of each line. The same lines go before its own generator, in
// the kernel's tests.
func TestCases(t *testing.T) {
	data, err := os.ReadFile("testdata/cases.txt")
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	for line := range strings.Lines(string(data)) {
		raw, want, is := strings.Cut(strings.TrimSuffix(line, "\n"), " => ")
		if !is {
			continue
		}
		table, err := strconv.Unquote(raw)
		if err != nil {
			t.Fatal(err)
		}
		n++
		if got := said(Read(Parse([]byte(table)), places)); got != want {
			t.Errorf("%s\n got %s\nwant %s", raw, got, want)
		}
	}
	if n < 120 {
		t.Errorf("%d cases", n)
	}
}
