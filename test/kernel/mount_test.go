package kernel

import (
	"fmt"
	"testing"
)

// proveHeld: whoever keeps a mount busy is named with what it has, whichever way it does; what
// is mounted below goes first; and when everybody has let go it is taken away.
func proveHeld(t *testing.T, j *judge) {
	var commands []string
	var want [][]string
	do := func(command string, says ...string) { commands, want = append(commands, command), append(want, says) }
	do("mkdir /srv/a")
	do("format ubda ext4 --label herbarium block=4KiB --commit", fine)
	do("mount ubda /srv/a", fine)
	kinds := []struct{ how, says string }{
		{"file", "has /srv/a/sheet open"}, {"user", "of user 1000 has /srv/a/sheet open"}, {"directory", "works in /srv/a"}, {"root", "has its root in /srv/a"}, {"program", "runs /srv/a/keeper"},
		{"memory", "has /srv/a/sheet in its memory"}, {"socket", "has the socket /srv/a/socket"}, {"thread", "has a thread that works in /srv/a"},
	}
	for _, k := range kinds {
		do("open /srv/a 777")
		do("keep "+k.how+" /srv/a", "keeping")
		do("unmount /srv/a", k.says, "process", refused)
		do("release", "released")
	}
	do("swapfile /srv/a/swap", "swaps")
	do("swap list", "/srv/a/swap", "4.0 MiB", fine)
	do("unmount /srv/a", "the machine swaps on /srv/a/swap", refused)
	do("swap off /srv/a/swap", "done", fine)
	do("image /srv/a/card.img 8388608")
	do("format /srv/a/card.img ext4 --commit", fine)
	do("mkdir /srv/b")
	do("mount /srv/a/card.img /srv/b", fine)
	do("unmount /srv/a", "carries /srv/a/card.img", refused)
	do("unmount /srv/b", fine)
	do("keep file /srv/a", "keeping")
	do("unmount /srv/a --detach", "done", fine)
	do("survey ubda", fine)
	do("release", "released")
	do("mount ubda /srv/a", fine)
	do("mkdir /srv/a/deep")
	do("format ubdb ext4 --label deep --commit", fine)
	do("mount ubdb /srv/a/deep", fine)
	do("unmount /srv/a", "ubdb is mounted at /srv/a/deep", "--below", refused)
	do("unmount /srv/a --below", "done", fine)
	do("mount ubda /srv/a", fine)
	do("unmount --all", "/srv/a: done", fine)
	a := j.run(t, start{modules: []string{"loop"}, boot: []string{"null_blk.nr_devices=0"}, images: []string{blank(t, 64<<20), blank(t, 16<<20)}, commands: commands})[1]
	says(t, a.Said, want)
	fmt.Printf("kernel proof: %d ways to keep a mount busy, each named: %v\n", len(kinds)+3, !t.Failed())
}
