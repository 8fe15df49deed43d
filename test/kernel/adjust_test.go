//go:build proof

package kernel

import (
	"fmt"
	"strings"
	"testing"
)

// proveAdjust: each setting that can be given later is what was asked for, the kernel finds
// nothing wrong with what was used before, and undo gives every byte back; an identifier takes
// its lines with it, of every kind, mounted where the kernel has a call for that.
func proveAdjust(t *testing.T, j *judge) {
	const id, other = "5eed0000-0000-4000-8000-00000000fe11", "5eed0000-0000-4000-8000-00000000fe12"
	var commands []string
	var want [][]string
	do := func(command string, says ...string) { commands, want = append(commands, command), append(want, says) }
	used := func(target string, files int) {
		do("mount "+target+" /srv/a", fine)
		do(fmt.Sprintf("entries /srv/a %d read", files), "all")
		do("unmount /srv/a", fine)
	}
	do("mkdir /srv/a")
	do("format ubda ext4 --label herbarium block=1KiB --commit", fine)
	do("fstab add ubda /srv/a --commit", fine)
	do("mount ubda /srv/a", fine)
	do("entries /srv/a 10000", "all")
	do("unmount /srv/a", fine)
	var pairs [][2]int // of digests that must be the same
	for _, c := range [][]string{
		{"reserved=1% reserved-user=7 reserved-group=9", "reserved 1% ", "reserved-user 7 ", "reserved-group 9 "},
		{"reserved=2MiB stripe-unit=64KiB stripe-width=256KiB check-after-mounts=3000", "reserved 2MiB ", "stripe-unit 64KiB ", "stripe-width 256KiB ", "check-after-mounts 3000 "},
		{"stripe-unit=none stripe-width=none check-every=40000d on-error=read-only mount-defaults=commit=7,nodelalloc", "check-every 40000d ", "on-error read-only ", "commit=7,nodelalloc "},
		{"mount-defaults=none large-directories=yes", "mount-defaults none ", "large-directories yes "},
		{"uuid=" + id, "checksum-seed yes "},
		{"uuid=" + other + " on-error=continue", "on-error continue "},
		{"journal=no", "journal no "},
	} {
		do("digest /dev/ubda")
		before := len(commands) - 1
		do("adjust ubda "+c[0]+" --commit", "done", fine)
		do("settings ubda", c[1:]...)
		do("undo --commit", "done", fine)
		do("digest /dev/ubda")
		pairs = append(pairs, [2]int{before, len(commands) - 1})
		do("adjust ubda "+c[0]+" --commit", "done", fine)
		used("ubda", map[bool]int{true: 10000, false: 300}[strings.HasPrefix(c[0], "uuid")])
	}
	do("file /etc/fstab", "UUID="+other+" /srv/a ext4")
	do("mount ubda /srv/a", fine) // the seed is on: mounted too, and the lines follow
	do("adjust ubda uuid="+id+" --commit", "done", fine)
	do("survey ubda", "ext4")
	do("file /etc/fstab", "UUID="+id+" /srv/a ext4")
	do("adjust ubda reserved=3%", "it is mounted at /srv/a", refused)
	do("undo --commit", "done", fine)
	do("unmount /srv/a", fine)
	do("file /etc/fstab", "UUID="+other+" /srv/a ext4")
	used("UUID="+other, 10000)
	for i, c := range []struct{ kind, id string }{{"ext3", other}, {"ext2", other}, {"xfs", other}, {"swap", other}, {"fat", "5EED-FE11"}} {
		do("format ubdb "+c.kind+" --label ferns"+map[bool]string{true: " --lose=ferns"}[i > 0]+" --commit", fine)
		do("adjust ubdb uuid=new --commit", "done", fine)
		do("adjust ubdb uuid="+c.id+" --commit", map[bool]string{true: "another device carries it", false: fine}[c.id == other])
		do("adjust ubdb uuid="+strings.Replace(c.id, "fe12", "fe13", 1)+" --commit", map[bool]string{true: "done", false: "nothing to do"}[c.id == other])
		if c.kind != "swap" && c.kind != "fat" {
			do("mount ubdb /srv/a", fine)
			do("entries /srv/a 300", "all")
			do("unmount /srv/a", fine)
			do("adjust ubdb uuid=new --commit", "done", fine)
			do("mount ubdb /srv/a", fine)
			do("entries /srv/a 300 read", "all")
			do("unmount /srv/a", fine)
		}
		if c.kind == "ext3" {
			do("adjust ubdb journal=no --commit", "done", fine)
			do("mountas ext3 ubdb", "invalid argument")
			do("mountas ext2 ubdb", "mounted")
		}
	}
	// A disk that keeps nothing reads as what the memory held, superblocks among it.
	a := j.run(t, start{modules: []string{"xfs"}, boot: []string{"null_blk.nr_devices=0"}, images: []string{blank(t, 64<<20), blank(t, 128<<20)}, commands: commands})[1]
	says(t, a.Said, want)
	for _, p := range pairs {
		if len(a.Said) > p[1] && a.Said[p[0]] != a.Said[p[1]] {
			t.Errorf("%s, undone: %s, was %s", commands[p[0]+1], a.Said[p[1]], a.Said[p[0]])
		}
	}
	for _, line := range a.Kernel {
		known := strings.Contains(strings.ToLower(line), "can't find") || strings.Contains(line, "couldn't mount as ext3") || strings.Contains(line, "callbacks suppressed")
		if level, _, _ := strings.Cut(line, ","); (strings.Contains(line, "EXT") || strings.Contains(line, "XFS")) && level < "5" && !known {
			t.Errorf("the kernel says: %s", line)
		}
	}
	fmt.Printf("kernel proof: %d commands around settings given later, %d undone to the byte: %v\n", len(commands), len(pairs), !t.Failed())
}
