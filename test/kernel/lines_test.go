//go:build proof

package kernel

import (
	"fmt"
	"testing"
)

// proveLines: what no device is mounted for, systemd mounts as its line says, read anew where
// the line is new; what became of it is waited for, and it is taken away again. Nothing is
// mounted over such a place, and nothing that the kernel shows of itself is taken away.
func proveLines(t *testing.T, j *judge) {
	var commands []string
	var want [][]string
	do := func(command string, says ...string) { commands, want = append(commands, command), append(want, says) }
	do("format ubda ext4 --label ground --commit", fine)
	do("line tmpfs /srv/scratch tmpfs size=1m,noauto 0 0", "line")
	do("mount /srv/scratch --draft", "mount tmpfs at /srv/scratch", "systemd mounts it, as line 1 of fstab says", fine)
	do("mount /srv/scratch", "done: mount tmpfs at /srv/scratch", "fundus unmount /srv/scratch", fine)
	do("mount /srv/scratch", "nothing to do", fine)
	do("file /proc/self/mountinfo", "/srv/scratch", "size=1024k")
	do("line tmpfs /srv/other tmpfs size=2m 0 0", "line")
	do("line fern:/export /srv/q nfs noauto 0 0", "line")
	do("mount --all", "/srv/scratch left out: noauto", "/srv/other mounted", fine)
	do("mount --all", "/srv/other mounted already", fine)
	do("mount ubda /srv/other", "tmpfs is mounted there", refused)
	do("mount /srv/q", "srv-q.mount", refused)
	do("unmount /srv/scratch", "done: unmount tmpfs (tmpfs) from /srv/scratch", "fundus mount /srv/scratch", fine)
	do("unmount /srv/scratch", "nothing to do", fine)
	do("unmount /proc", "needs the proc", refused)
	do("unmount /dev/pts", "needs the devpts", refused)
	a := j.run(t, start{root: j.debian(t), systemd: true, images: []string{blank(t, 20<<20)}, commands: commands})[0]
	says(t, a.Said, want)
	fmt.Printf("kernel proof: lines of fstab that name no device are mounted by systemd, and taken away: %v\n", !t.Failed())
}
