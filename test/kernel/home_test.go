//go:build proof

package kernel

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// proveHome: as an administrator types it, a blank disk becomes a directory that is mounted,
// there at each boot, somebody's, and found from his home, and swap; a card from elsewhere is
// mounted at the first access, let go when nobody uses it, and pulled out. Then the machine
// really boots, and all of it is there.
func proveHome(t *testing.T, j *judge) {
	root := j.debian(t)
	j.giveAutofs(t, root)
	home := filepath.Join(root, "home/curator")
	passwd, err := os.OpenFile(filepath.Join(root, "etc/passwd"), os.O_APPEND|os.O_WRONLY, 0)
	if err := errors.Join(err, os.Mkdir(home, 0o750), os.Chown(home, 1000, 1000)); err != nil {
		t.Fatal(err)
	}
	group, err := os.OpenFile(filepath.Join(root, "etc/group"), os.O_APPEND|os.O_WRONLY, 0)
	_, errPasswd := fmt.Fprintln(passwd, "curator:x:1000:1000::/home/curator:/bin/sh")
	_, errGroup := fmt.Fprintln(group, "curator:x:1000:")
	if err := errors.Join(err, errPasswd, errGroup, passwd.Close(), group.Close()); err != nil {
		t.Fatal(err)
	}
	var commands []string
	var want [][]string
	do := func(command string, says ...string) { commands, want = append(commands, command), append(want, says) }
	images := []string{blank(t, 300<<20)}
	boot := func() []string {
		t.Helper()
		a := j.run(t, start{root: root, systemd: true, modules: []string{"loop", "vfat", "nls_cp437", "nls_iso8859-1"}, images: images, commands: commands})[0]
		says(t, a.Said, want)
		commands, want = nil, nil
		return a.Said
	}
	do("table new ubda --commit", fine)
	do("partition add ubda --size 128MiB --size 64MiB --commit", fine)
	do("format ubda1 ext4 --label herbarium --commit", fine)
	do("format ubda2 swap --label rest --commit", fine)
	do("mount ubda1 /srv/herbarium --persist --owner curator --mode 2770 --link /home/curator/herbarium --commit", "done", fine)
	do("swap on ubda2 --persist --options=pri=5 --commit", "done", fine)
	do("owner /srv/herbarium", "1000:1000 2770")
	do("link /home/curator/herbarium", "/srv/herbarium")
	do("image /var/card.img 33554432", "image")
	do("plug /var/card.img loop0", "plugged")
	do("format loop0 fat --label CARD --commit", fine)
	do("mount loop0 /media/card --make", fine)
	do("text /media/card/notes.txt larkspur", "text")
	do("mount loop0 /media/card --owner curator", "stores no owners", "--options=uid=1000,gid=1000", refused)
	do("unmount /media/card", fine)
	do("fstab add loop0 /media/card --automount --idle 2s --device-wait 4s --options=uid=1000,gid=1000,nofail --commit", "UUID=", "x-systemd.automount", fine)
	do("unplug loop0", "unplugged")
	do("rehearse", "/media/card", "the first access waits 4s and fails", "exit status 4")
	boot()

	do("file /proc/self/mountinfo", "/srv/herbarium", "/media/card", "autofs")
	do("file /proc/swaps", "/dev/ubda2", "5")
	do("owner /srv/herbarium", "1000:1000 2770")
	do("file /home/curator/herbarium/seeds", "no such file")
	do("text /home/curator/herbarium/seeds larkspur", "text")
	do("file /srv/herbarium/seeds", "larkspur")
	do("plug /var/card.img loop0", "plugged")
	do("pause")
	do("file /media/card/notes.txt", "larkspur")
	do("owner /media/card/notes.txt", "1000:1000")
	do("survey loop0", "/media/card", fine)
	do("mount --all", "/srv/herbarium mounted already", fine)
	do("unmount /media/card", fine)
	do("unmount /media/card", "nothing to do", fine)
	do("file /media/card/notes.txt", "larkspur")
	for range 8 {
		do("pause")
	}
	do("file /proc/self/mountinfo", "autofs")
	let := len(commands) - 1
	do("unplug loop0", "unplugged")
	do("pause")
	do("file /media/card/notes.txt", "no such device")
	do("survey", fine)
	do("mount ubda1 /srv/herbarium --owner root --below --commit", "give 2 files", fine)
	do("owner /srv/herbarium/seeds", "0:0")
	do("undo --commit", fine)
	do("owner /srv/herbarium/seeds", "0:1000") // the group came with the directory
	do("owner /srv/herbarium", "1000:1000 2770")
	if said := boot(); len(said) > let && strings.Contains(said[let], "vfat") {
		t.Errorf("the card is held though nobody uses it: %s", said[let])
	}
	fmt.Printf("kernel proof: a blank disk became a home and swap, a card came and went, and a boot found it all: %v\n", !t.Failed())
}

// giveAutofs lays what mounts at the first access where systemd finds it at boot, if this
// kernel has it as a module: without it the unit fails, and the boot with it.
func (j *judge) giveAutofs(t *testing.T, root string) {
	t.Helper()
	j.giveModules(t, root, "autofs4")
}

// giveModules lays modules of the kernel, with what they need, where a system finds them.
func (j *judge) giveModules(t *testing.T, root string, names ...string) {
	t.Helper()
	if j.modules == "" {
		return
	}
	to := filepath.Join(root, "lib/modules", filepath.Base(j.modules))
	files, err := filepath.Glob(filepath.Join(j.modules, "modules.*"))
	inside, _ := j.withNeeds(t, names)
	for _, f := range inside {
		files = append(files, filepath.Join(j.modules, f))
	}
	for _, f := range files {
		rel, errRel := filepath.Rel(j.modules, f)
		data, errRead := os.ReadFile(f)
		err = errors.Join(err, errRel, errRead, os.MkdirAll(filepath.Dir(filepath.Join(to, rel)), 0o755), os.WriteFile(filepath.Join(to, rel), data, 0o644))
	}
	if err != nil {
		t.Fatal(err)
	}
}
