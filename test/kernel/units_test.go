//go:build proof

package kernel

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"fundus/test/amount"
)

// proveUnits: units that are added are started and stopped by systemd beside which they are
// written: a mount, one at the first access that is let go when nobody uses it, and swap; what
// a line had mounted stays mounted as a unit's; undo leaves nothing behind. Then the machine
// really boots, and all of it is there.
func proveUnits(t *testing.T, j *judge) {
	root := j.debian(t)
	j.giveAutofs(t, root)
	var commands []string
	var want, not [][]string
	do := func(command string, says ...string) {
		commands, want, not = append(commands, command), append(want, says), append(not, nil)
	}
	without := func(command string, words ...string) { do(command); not[len(not)-1] = words }
	images := []string{blank(t, 400<<20)}
	boot := func() {
		t.Helper()
		a := j.run(t, start{root: root, systemd: true, images: images, commands: commands})[0]
		says(t, a.Said, want)
		for i, words := range not {
			for _, w := range words {
				if i >= len(a.Said) || strings.Contains(a.Said[i], w) {
					t.Errorf("command %d, %s, says %q: %s", i+1, commands[i], w, a.Said[min(i, len(a.Said)-1)])
				}
			}
		}
		commands, want, not = nil, nil, nil
	}
	do("table new ubda --commit", fine)
	do("partition add ubda --size 64MiB --size 32MiB --size 64MiB --size 64MiB --commit", fine)
	for i, kind := range []string{"ext4 --label FIELDCARD", "swap --label rest", "ext4 --label scans", "ext2 --label seeds"} {
		do(fmt.Sprintf("format ubda%d %s --commit", i+1, kind), fine)
	}
	do("unit add ubda1 /media/card --automount --idle=2s --commit --steps", "done: add media-card.automount", "what is mounted stays", fine)
	do("file /proc/self/mountinfo", "/media/card", "autofs")
	do("unit list", "waits for the first access", fine)
	do("file /media/card/none", "no such file")
	do("file /proc/self/mountinfo", "/dev/ubda1")
	do("unit add ubda3 /srv/scans --commit", "done: add srv-scans.mount", fine)
	do("file /proc/self/mountinfo", "/dev/ubda3")
	do("unit add ubda2 swap --commit", "done: add", fine)
	do("file /proc/swaps", "/dev/ubda2")
	do("undo --commit", "done: undo", fine)
	without("file /proc/swaps", "/dev/ubda2")
	without("unit list", "ubda2")
	do("unit add ubda2 swap --commit", "done: add", fine)
	do("fstab add ubda4 /srv/seeds --commit", fine)
	do("mount /srv/seeds", fine)
	do("unit add --from-fstab /srv/seeds --commit", "it is in use already, and stays", "done: add srv-seeds.mount", fine)
	do("file /proc/self/mountinfo", "/dev/ubda4", "/srv/seeds")
	do("unit check", "5 units", "in order", fine)
	for range 4 {
		do("pause")
	}
	without("file /proc/self/mountinfo", "/dev/ubda1")
	do("unit add ubda4 /srv/other --commit", "done", fine)
	do("unit remove /srv/other --commit", "stays mounted", fine)
	do("unmount /srv/other", fine)
	do("unit list --json", "srv-seeds.mount", fine)
	do("rehearse", "next boot of this machine (fernhill): comes up", "unit  /srv/scans", "unit  /media/card", fine)
	boot()

	do("file /proc/self/mountinfo", "/media/card", "autofs", "/dev/ubda3", "/srv/scans", "/dev/ubda4", "/srv/seeds")
	without("file /proc/self/mountinfo", "/srv/other", "/dev/ubda1")
	do("file /proc/swaps", "/dev/ubda2")
	do("file /media/card/none", "no such file")
	do("file /proc/self/mountinfo", "/dev/ubda1")
	do("fstab add --from-unit /srv/seeds --commit", "done", fine)
	do("file /proc/self/mountinfo", "/dev/ubda4")
	do("fstab list", "/srv/seeds", fine)
	do("unit remove /media/card --commit --steps", "have systemd stop media-card.automount", "done: remove", fine)
	without("file /proc/self/mountinfo", "/media/card")
	do("unmount /srv/scans", fine)
	do("unit remove srv-scans.mount --commit", "done: remove", fine)
	do("mount /srv/seeds", "nothing to do", fine)
	boot()

	if !amount.Soak() { // once more takes as long again
		fmt.Printf("kernel proof: units were written, started, let go and stopped, and a boot found what was left: %v\n", !t.Failed())
		return
	}
	do("file /proc/self/mountinfo", "/dev/ubda4", "/srv/seeds")
	without("file /proc/self/mountinfo", "/media/card", "/srv/scans")
	do("file /proc/swaps", "/dev/ubda2")
	do("fstab add ubda3 /srv/masked --needed --commit", fine)
	boot()

	// Behind a mask over what the boot requires, its target goes without what it only wants.
	if err := os.Symlink("/dev/null", filepath.Join(root, "etc/systemd/system/srv-masked.mount")); err != nil {
		t.Fatal(err)
	}
	without("file /proc/self/mountinfo", "/srv/masked", "/srv/seeds")
	do("file /proc/swaps", "/dev/ubda2")
	do("rehearse", "comes up without 2 mounts that fstab asks for", "is a mask", "goes without what it wants", "exit status 4")
	boot()
	fmt.Printf("kernel proof: units were written, started, let go and stopped, and two boots found what was left: %v\n", !t.Failed())
}
