//go:build proof

package kernel

import (
	"fmt"
	"strings"
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
	do("unmount /srv/b", "fundus mount /srv/a/card.img /srv/b\n", fine) // its loop device is let go
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
	do("mkdir /mnt2")
	do("mount ubdb /srv/b", fine)
	do("apart mount /dev/ubdb /mnt2", "holding")
	do("unmount /srv/b", "done", "ubdb is not free: it is mounted at", "in the mount namespace of process", fine)
	do("over /dev/ubdb /srv/a", "<nil>")
	do("unmount /srv/a", "unmount ubdb", "ubda is mounted at /srv/a too, below it", fine)
	do("unmount --all", "/srv/a unmounted", fine)
	a := j.run(t, start{modules: []string{"loop"}, boot: []string{"null_blk.nr_devices=0"}, images: []string{blank(t, 64<<20), blank(t, 16<<20)}, commands: commands})[1]
	says(t, a.Said, want)
	fmt.Printf("kernel proof: %d ways to keep a mount busy, each named: %v\n", len(kinds)+3, !t.Failed())
}

// proveWords: lines that are wrong, each in its way, are tried one after the other, and each
// says what is the matter, in words of the kernel where it is the kernel that refuses; the
// right ones between them are mounted all the same, those first that others lie below.
func proveWords(t *testing.T, j *judge) {
	var commands []string
	var want [][]string
	do := func(command string, says ...string) { commands, want = append(commands, command), append(want, says) }
	for i, c := range []string{"ext4 --label ground block=4KiB", "xfs --label moss", "", "fat --label CARD", "ext4 --label hurt block=4KiB", "swap --label rest", "ext4 --label tied block=4KiB", "ext3 --label old block=1KiB", "ext2 --label bare block=1KiB journal=no", ""} {
		if c != "" {
			do(fmt.Sprintf("format ubd%c %s --commit", 'a'+i, c), fine)
		}
	}
	do("twin /dev/ubdb /dev/ubdc", "twin")
	do("spoil /dev/ubde 4096 64", "spoilt") // its descriptors
	do("mkdir /srv")
	lines := []struct{ line, says string }{
		{"LABEL=ground /srv/a ext4 defaults 0 2", "/srv/a mounted"},
		{"/dev/ubdb /srv/b xfs noatime 0 0", "/srv/b mounted"},
		{"/dev/ubdc /srv/c xfs defaults 0 0", "no second xfs of one UUID"},
		{"/dev/ubdd /srv/d vfat codepage=999 0 0", "codepage cp999 not found"},
		{"/dev/ubde /srv/e ext4 defaults 0 2", "it is damaged: group 0"},
		{"LABEL=tied /srv/f xfs defaults 0 0", "it holds ext4, not xfs"},
		{"LABEL=tied /srv/g ext4 nosuchoption 0 0", "does not know"},
		{"LABEL=tied /srv/h ext4 commit=soon 0 0", "is no value of commit"},
		{"LABEL=tied /srv/i ext4 errors=never 0 0", "is no value of errors"},
		{"LABEL=bare /srv/j ext4 commit=5 0 0", "needs a journal"},
		{"LABEL=bare /srv/k ext3 defaults 0 0", "it holds ext2, not ext3"},
		{"LABEL=rest /srv/l ext4 defaults 0 0", "swap rest"},
		{"/dev/ubdj /srv/m ext4 defaults 0 0", "it is empty"},
		{"/dev/nothing /srv/n ext4 defaults 0 0", "no device has /dev/nothing"},
		{"UUID=5eed0000-0000-4000-8000-000000000001 /srv/o ext4 nofail 0 0", "nofail says that it may be absent"},
		{"LABEL=tied none ext4 defaults 0 0", "left out"},
		{"LABEL=tied /srv/p ext4 noauto 0 0", "noauto"},
		{"fern:/export /srv/q nfs defaults 0 0", "left to systemd"},
		{"LABEL=tied /srv/r ext4 x-systemd.automount 0 0", "/srv/r mounted"},
		{"LABEL=ground /srv/a/deep ext4 ro 0 0", "a second mount cannot be"},
		{"LABEL=old /srv/a/inner ext3 data=journal,user 0 0", "/srv/a/inner mounted"},
		{"LABEL=ground /srv/a ext4 defaults 0 0", "/srv/a"},
	}
	for _, l := range lines {
		do("line "+l.line, "line")
		if dir := strings.Fields(l.line)[1]; strings.HasPrefix(dir, "/srv/") {
			do("mkdir " + dir)
		}
	}
	all := []string{refused}
	for _, l := range lines {
		all = append(all, l.says)
	}
	do("mkdir /mnt")
	do("mount LABEL=ground /srv/a", fine) // the directories are to lie on it
	do("mkdir /srv/a/deep")
	do("mkdir /srv/a/inner")
	do("unmount /srv/a", fine)
	do("fstab check --explain", "says: ext4: Unknown parameter 'nosuchoption'", "says: ext4: Bad value for 'commit'", "exit status 4")
	do("mount LABEL=tied /mnt --options=nosuchoption,commit=soon,nouser_xattr --draft", "nosuchoption", "is no value of commit", "Linux", refused)
	do("mount LABEL=tied /mnt --options=commit=7,noatime --draft", fine)
	do("mount --all", all...)
	do("mount --all", "/srv/a mounted already", "/srv/a/inner mounted already", refused)
	do("mount /srv/a --remount --options=noatime,commit=77,ro", "done", fine)
	do("file /proc/self/mountinfo", "/srv/a ro,noatime", "ro,commit=77")
	do("mount --all", "/srv/a mounted differently", refused)
	do("mount /srv/a --remount --options=rw,relatime,commit=5", "done", fine)
	do("mount LABEL=ground /srv/b2 --make --options=commit=9", "would leave commit=9 out", refused)
	do("mount LABEL=ground /srv/b2 --make", "done", fine)
	do("mount LABEL=rest /srv/b3 --make", refused)
	do("mount /srv/a /srv/shown --options=bind,ro,nosuid --make", "done", fine)
	do("file /proc/self/mountinfo", "/srv/shown ro,nosuid", "/srv/a rw,relatime")
	do("mount /srv/gone /srv/shown --options=bind", "no such directory", refused)
	do("unmount /srv/r", fine)
	do("digest /dev/ubdg")
	do("mount LABEL=tied /srv/look --untouched --make", "done", fine)
	do("file /proc/self/mountinfo", "/srv/look ro,relatime", "ro,norecovery")
	do("unmount /srv/look", fine)
	do("digest /dev/ubdg")
	looked := len(commands) - 1
	do("unmount --all", "/srv/a/inner unmounted", "/srv/shown unmounted", "/srv/b2 unmounted", "/srv/a unmounted", "/srv/b unmounted", fine)
	do("mount ubdb /srv/b", "done", fine) // what the kernel lists by itself, nobody asked for
	do("unmount /srv/b", "fundus mount ubdb /srv/b\n", fine)
	do("mount ubdb /srv/b --options=logbufs=4", "done", fine)
	do("unmount /srv/b", "fundus mount ubdb /srv/b --options=logbufs=4\n", fine)
	do("mount ubdd /srv/d", "done", fine)
	do("unmount /srv/d", "fundus mount ubdd /srv/d --options=iocharset=", fine) // the kernel was built with one, which it does not say
	do("spoil /dev/ubdh 1024 1024", "spoilt")                                   // the first superblock; the one of group 1 stays
	do("inspect ubdh", "an ext3 old whose first superblock is gone", "1 of 1 copies of it is there", "--options=ro,sb=8193", fine)
	do("mount ubdh /srv/h --options=sb=8193", "read-only", refused)
	do("mount ubdh /srv/h --options=ro,sb=1", "no superblock of an ext is at byte 1024", refused)
	do("mount ubdh /srv/h --options=ro,sb=8193", "done", fine)
	do("file /proc/self/mountinfo", "/srv/h ro,relatime")
	do("unmount /srv/h", "done", "--options=ro,sb=8193\n", fine)
	do("swap on LABEL=rest --options=pri=7", "done", fine)
	do("file /proc/swaps", "partition", " 7")
	do("swap list", "rest", "pri", fine)
	do("swap off LABEL=rest", "done", fine)
	var images []string
	for i := range 10 {
		images = append(images, blank(t, map[bool]int64{true: 64 << 20, false: 20 << 20}[i == 1 || i == 2]))
	}
	a := j.run(t, start{modules: []string{"xfs", "vfat", "nls_cp437", "nls_iso8859-1"}, boot: []string{"null_blk.nr_devices=0"}, images: images, commands: commands})[len(images)-1]
	says(t, a.Said, want)
	if len(a.Said) > looked && a.Said[looked] != a.Said[looked-4] {
		t.Errorf("a look changed the device: %s, was %s", a.Said[looked], a.Said[looked-4])
	}
	fmt.Printf("kernel proof: %d lines of fstab, right and wrong, each with its result: %v\n", len(lines), !t.Failed())
}

// proveGivenUp: what is in use of an area decides whether it is given up: with the numbers, and
// the machine lives on; areas are used and listed by their priorities.
func proveGivenUp(t *testing.T, j *judge) {
	var commands []string
	var want [][]string
	do := func(command string, says ...string) { commands, want = append(commands, command), append(want, says) }
	do("format ubda swap --label first --commit", fine)
	do("format ubdb swap --label second --commit", fine)
	do("fstab add ubda swap --options=pri=9 --commit", fine)
	do("fstab add ubdb swap --options=noauto --commit", fine)
	do("swap on --all", "1 turned on, 1 left out", "noauto", fine)
	do("swap on ubdb --options=pri=3", "done", fine)
	do("swap on ubdb", "nothing to do", fine)
	do("swap list", "first 400.0 MiB 0 B 9 pri=9 fstab line", "second 60.0 MiB 0 B 3", "not by itself", fine)
	do("keep hog 500", "keeping")
	do("swap off ubda", "is in use; ", "space for", "the kernel would kill programs", refused)
	do("file /proc/swaps", "/dev/ubda", "/dev/ubdb")
	do("swap off --all", "space for", refused)
	do("release", "released")
	do("swap off ubda", "done: swap off ubda", "fundus swap on ubda", fine)
	do("swap off ubda", "nothing to do", fine)
	do("swap off --all", "done", fine)
	do("mkdir /etc/kernel")
	do("swap list", "no swap is on", fine)
	do("file /proc/swaps", "Filename")
	empty := len(commands) - 1
	var begun []int
	for i, kind := range []string{"ext4 block=1KiB", "ext4 block=4KiB", "xfs", "ext3 block=4KiB", "ext2 block=4KiB", "ext4 block=4KiB"} {
		do(fmt.Sprintf("format ubdc %s --label moss%s --commit", kind, map[bool]string{true: " --lose=moss"}[i > 0]), fine)
		do("mount ubdc /srv/a --make", fine)
		do("swap add /srv/a/swap 8MiB --options=pri=2 --persist --commit"+map[bool]string{true: " --written"}[i == 5], "done: add the file /srv/a/swap", fine)
		do("begins /srv/a/swap")
		begun = append(begun, len(commands)-1)
		do("swap list --json", "first_page", fine)
		do("text /etc/kernel/cmdline resume=/dev/ubdc resume_offset=7", "text")
		do("verify", "resume-offset", "exit status 4")
		do("file /proc/swaps", "/srv/a/swap", map[bool]string{true: "818", false: "8188"}[i == 0]) // all of its pages but the first, where blocks are pages
		do("swap off /srv/a/swap", "done", fine)
		do("swap on --all", "/srv/a/swap turned on", fine)
		do("swap off ubda", "done", fine)
		do("survey ubdc", "swap: /srv/a/swap, 8.0 MiB", fine)
		do("swap add /srv/a/swap 8MiB", "something of that name", refused)
		do("swap add /srv/a/more 8GiB", "free", refused)
		do("unmount /srv/a", "the machine swaps on /srv/a/swap", refused)
		do("undo --commit", "done", fine)
		do("file /srv/a/swap", "no such file")
		judged := "written true true, unwritten true true, hole false false, tail false false, pages false false, nothing false false"
		if kind == "xfs" {
			judged = strings.Replace(judged, "tail false false", "tail false false, shared false false", 1)
		}
		if i < 3 {
			do("swapfiles /srv/a", judged)
		}
		do("unmount /srv/a", "done", fine)
	}
	do("swap add /swap 8MiB", "Fundus creates such files on ext4, ext3, ext2, xfs, btrfs", refused) // on the host's directory
	do("swap add /dev/swap 8MiB", "Fundus creates such files on ext4, ext3, ext2, xfs, btrfs", refused)
	a := j.run(t, start{modules: []string{"xfs"}, boot: []string{"null_blk.nr_devices=0"}, images: []string{blank(t, 400<<20), blank(t, 60<<20), blank(t, 100<<20)}, commands: commands})[2]
	says(t, a.Said, want)
	for _, i := range begun {
		if begins, list := strings.TrimSpace(a.Said[i]), a.Said[i+1]; !strings.Contains(list, `"first_page": `+begins) {
			t.Errorf("the kernel says that it begins at page %s: %s", begins, list)
		}
	}
	if len(a.Said) > empty && strings.Contains(a.Said[empty], "/dev/") {
		t.Errorf("still in use: %s", a.Said[empty])
	}
	fmt.Printf("kernel proof: an area of swap is kept while it is needed, and given up when it is not: %v\n", !t.Failed())
}
