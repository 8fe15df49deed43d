//go:build proof

package kernel

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"fundus/test/amount"
)

// preparation is a form of the command, with what is there afterwards.
type preparation struct {
	words, place string
	plain        string // what makes the same on a disk that nobody mounts
	lose         string // what is named when it is taken back
	reads        string // what the boot loader's reader calls the file system
}

func preparations() []preparation {
	return []preparation{
		{"--as ext4 --mount /srv/herbarium --owner curator --mode 2770 --link /home/curator/herbarium", "/srv/herbarium", "--as ext4 --label herbarium", "herbarium", "ext*"},
		{"--as xfs --label mosses --mount /srv/herbarium", "/srv/herbarium", "--as xfs --label mosses", "mosses", "xfs"},
		{"--as fat --mount /media/herbarium --scheme mbr", "/media/herbarium", "--as fat --label herbarium --scheme mbr", "HERBARIUM", "fat"},
		{"--as ext4 --mount /srv/herbarium --size 200MiB --record unit --automount --idle 60s", "/srv/herbarium", "--as ext4 --label herbarium --size 200MiB", "herbarium", "ext*"},
		{"--as fat for=efi --mount /boot/efi", "/boot/efi", "--as fat for=efi --label efi", "EFI", "fat"},
	}
}

// provePrepare: an empty disk goes the whole road in one deed. It is used, found by the same words,
// there after a real boot, and taken back with all that is on it once that is named, but not while
// somebody has a file of it open; and that is taken back too. One form by turns, and swap.
func provePrepare(t *testing.T, j *judge) {
	all := preparations()
	for i, f := range all {
		if amount.Turn(i, len(all)) {
			t.Run(f.words, func(t *testing.T) { preparedDisk(t, j, f) })
		}
	}
	if amount.Turn(1, 3) {
		t.Run("swap", func(t *testing.T) { preparedSwap(t, j) })
	}
}

// typist collects commands and what they say.
type typist struct {
	commands []string
	want     [][]string
}

func (y *typist) do(command string, says ...string) int {
	y.commands, y.want = append(y.commands, command), append(y.want, says)
	return len(y.commands) - 1
}

// curators is a Debian with an account and a home.
func curators(t *testing.T, j *judge) string {
	t.Helper()
	root := j.debian(t)
	j.giveModules(t, root, "autofs4", "vfat", "nls_cp437", "nls_iso8859-1")
	home := filepath.Join(root, "home/curator")
	err := errors.Join(os.Mkdir(home, 0o750), os.MkdirAll(filepath.Join(root, "target/etc"), 0o755))
	for name, line := range map[string]string{"passwd": "curator:x:1000:1000::/home/curator:/bin/sh\n", "group": "curator:x:1000:\n"} {
		at := filepath.Join(root, "etc", name)
		data, errRead := os.ReadFile(at)
		err = errors.Join(err, errRead, os.WriteFile(at, append(data, line...), 0o644))
	}
	if err != nil {
		t.Fatal(err)
	}
	return root
}

func preparedDisk(t *testing.T, j *judge, f preparation) {
	root, images := curators(t, j), []string{blank(t, 400<<20), blank(t, 400<<20)}
	boot := func(y *typist) []string {
		t.Helper()
		a := j.run(t, start{root: root, systemd: true, modules: []string{"vfat", "nls_cp437", "nls_iso8859-1", "xfs"}, images: images, commands: y.commands})[1]
		says(t, a.Said, y.want)
		return a.Said
	}
	command := "prepare ubda " + f.words
	seeds := f.place + "/seeds"

	y := &typist{}
	y.do("prepare ubdb "+f.plain+" --commit", "done: prepare ubdb", fine)
	y.do("holding ubdb", "sectors are remembered")
	y.do("undo --commit", "done: undo", fine)
	y.do("holding ubdb", "0 of ")
	y.do(command+" --commit", "done: prepare ubda for "+f.place, fine)
	y.do("file "+seeds, "no such file") // an automount mounts it
	y.do(command+" --commit", "nothing to do: "+f.place+" is there as asked", fine)
	y.do("text "+seeds+" larkspur", "text")
	y.do("unmount "+f.place, fine)
	if !strings.Contains(f.words, "--automount") { // the next look mounts that
		y.do("mount "+f.place, fine)
	}
	y.do("file "+seeds, "larkspur")
	y.do("rehearse", "comes up", fine)
	y.do("verify", fine)
	y.do("prepare ubdb --as ext4 --mount /srv/target --root /target --commit", "nothing is mounted, started or turned on", "done: prepare", fine)
	y.do("gone /srv/target")
	boot(y)
	readByOthers(t, f, root, images[0])

	y = &typist{}
	y.do("file "+seeds, "larkspur") // the boot has mounted it
	y.do(command, "nothing to do: "+f.place+" is there as asked", fine)
	y.do("undo 3 --commit", "this destroys ubda1", "--lose="+f.lose, refused)
	y.do("keep file "+f.place, "keeping")
	y.do("undo 3 --commit --lose="+f.lose, f.place+": it is busy", "process", refused)
	y.do("file "+seeds, "larkspur")
	y.do("release", "released")
	y.do("undo 3 --commit --lose="+f.lose, "done: undo", fine)
	left := y.do("survey ubda", "no table", fine) // what its kernel wrote to free room is there
	y.do("holding ubda", "0 of ")
	y.do("file "+f.place, "no such file")
	y.do("file /home/curator/herbarium", "no such file")
	table := y.do("file /etc/fstab")
	units := y.do("unit list")
	y.do("undo 5 --commit", "done: undo", fine)
	y.do("mount "+f.place, f.place, fine)
	y.do("file "+seeds, "larkspur")
	y.do("unmount "+f.place, fine)
	y.do("verify ubda", fine)
	said := boot(y)
	if text := said[table] + said[units]; strings.Contains(text, f.place) {
		t.Errorf("%s: a line or a unit is left: %s", said[left], text)
	}
}

// readByOthers: the boot loader's reader sees the partition and the file system, and systemd's generator
// makes a unit of the line below the other root.
func readByOthers(t *testing.T, f preparation, root, image string) {
	t.Helper()
	out, err := exec.Command("grub-fstest", image, "ls", "--", "-l", "(loop0,1)").CombinedOutput()
	if err != nil || !strings.Contains(string(out), "Filesystem type "+f.reads) {
		t.Errorf("the boot loader's reader: %v\n%s", err, out)
	}
	table, err := os.ReadFile(filepath.Join(root, "target/etc/fstab"))
	if err != nil {
		t.Fatal(err)
	}
	other := generatorRoot(t)
	giveTable(t, other, "0000", string(table), "quiet")
	generateIn(t, other)
	unit, err := os.ReadFile(filepath.Join(other, "units/0000/n/srv-target.mount"))
	if err != nil || !strings.Contains(string(unit), "Where=/srv/target\n") {
		t.Errorf("systemd's generator: %v\n%s\nof\n%s", err, unit, table)
	}
}

// preparedSwap: swap is on at once, and after a boot; taken back it is off, and nothing has to be named.
func preparedSwap(t *testing.T, j *judge) {
	root, images := curators(t, j), []string{blank(t, 300<<20)}
	boot := func(y *typist) {
		t.Helper()
		a := j.run(t, start{root: root, systemd: true, images: images, commands: y.commands})[0]
		says(t, a.Said, y.want)
	}
	y := &typist{}
	y.do("prepare ubda --as swap --size 64MiB --commit", "done: prepare ubda, as swap", fine)
	y.do("prepare ubda --as swap --size 64MiB --commit", "nothing to do: ubda1 is swapped on", fine)
	y.do("prepare ubda --as swap --size 32MiB --commit", "64.0 MiB, not 32.0 MiB", "resize ubda1 32MiB", refused)
	y.do("file /proc/swaps", "/dev/ubda1")
	boot(y)
	y = &typist{}
	y.do("file /proc/swaps", "/dev/ubda1")
	y.do("holding ubda", "sectors are remembered")
	y.do("undo 1 --commit", "done: undo", fine)
	y.do("swap list", "no", fine)
	y.do("holding ubda", "0 of ")
	boot(y)
	fmt.Printf("kernel proof: a disk became swap in one deed, over a boot, and was taken back: %v\n", !t.Failed())
}
