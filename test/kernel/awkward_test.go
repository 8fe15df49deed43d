//go:build proof

package kernel

import "testing"

// proveAwkward: a symbolic link stays and what it leads to is changed; what cannot be
// replaced is refused with the reason, and the old table is whole; attributes stay; undo
// gives back what was there.
func proveAwkward(t *testing.T, j *judge) {
	edit := func(option string) string {
		return "fstab edit /srv/herbarium --add=" + option + " --root /target --commit"
	}
	state := func(how string) string { return "awkward /target " + how }
	steps := []struct {
		command string
		says    []string
	}{
		{"format ubda ext4 --label herbarium block=1KiB --commit", []string{fine}}, {"mkdir /target", nil}, {"mount ubda /target", []string{fine}}, {"mkdir /target/etc", nil},
		{"fstab add ubda /srv/herbarium --root /target --commit", []string{fine}},
		{state("link"), nil}, {edit("noatime"), []string{"leads to /real", "done", fine}}, {state("says"), []string{"a link", "nofail,noatime"}},
		{"undo --root /target --commit", []string{fine}}, {state("says"), []string{"a link", "nofail 0 2"}}, {state("unlink"), nil},
		{state("immutable"), nil}, {edit("noatime"), []string{"it is immutable", refused}}, {state("says"), []string{"nofail 0 2"}},
		{state("append-only"), nil}, {edit("noatime"), []string{"it is append-only", refused}}, {state("plain"), nil},
		{state("mounted"), nil}, {edit("noatime"), []string{"it is a mount point itself", "--in-place", refused}}, {state("says"), []string{"nofail 0 2"}},
		{edit("noatime") + " --in-place", []string{"done", fine}}, {state("says"), []string{"nofail,noatime 0 2"}}, {state("unmounted"), nil}, {state("says"), []string{"nofail 0 2"}},
		{state("twice"), nil}, {edit("noatime"), []string{"another name", "done", fine}}, {"undo --root /target --commit", []string{fine}}, {state("once"), nil},
		{state("readonly"), nil}, {edit("noatime"), []string{"is read-only", refused}}, {state("writable"), nil},
		{state("full"), nil}, {edit("noatime"), []string{"no space left", "[exit status"}}, {state("empty"), nil}, {state("says"), []string{"a file", "nofail 0 2"}},
		{state("xattr"), nil}, {edit("nodev"), []string{"done", fine}}, {state("attributes"), []string{"herbarium -rw-r--r--"}},
	}
	var commands []string
	var want [][]string
	for _, s := range steps {
		commands = append(commands, s.command)
		want = append(want, s.says)
	}
	says(t, j.boot(t, false, commands, blank(t, 16<<20))[0].Said, want)
}
