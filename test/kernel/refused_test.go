//go:build proof

package kernel

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// proveInUse: what is in use is refused with who uses it, as far as that can be
// seen, and nothing is changed.
func proveInUse(t *testing.T, j *judge) {
	said := j.run(t, start{modules: []string{"dm-mod"}, images: []string{blank(t, 64<<20)}, commands: []string{
		"table new ubda --commit",
		"partition add ubda --size 8MiB --commit", "partition add ubda --size 8MiB --commit", "partition add ubda --size 8MiB --commit", "partition add ubda --size 8MiB --commit", "partition add ubda --size 8MiB --commit",
		"format ubda1 ext4 --label apart --commit", "mkdir /mnt2",
		"apart mount /dev/ubda1 /mnt2", "makeswap ubda2", "map herbarium ubda3", "helper lock /dev/ubda", "helper claim /dev/ubda4",
		"format ubda1 ext4 --lose=apart --commit", "format ubda2 ext4 --commit --lose=ubda2", "format ubda3 ext4 --commit",
		"format ubda5 ext4 --commit", "survey",
	}})[0].Said
	for i, words := range map[int]string{8: "holding", 9: "swap", 10: "mapped", 11: "holding", 12: "holding"} {
		if said[i] != words {
			t.Errorf("preparing: %s", said[i])
		}
	}
	says(t, said[13:], [][]string{
		{"mounted at /mnt2 in the mount namespace of process", "(exe)", refused}, {"used as swap", refused}, {"held by dm-", refused}, {"process", "(exe) has locked it", refused},
		{"swap", "/mnt2", fine},
	})
}

// proveClaimed: a partition that another process has claimed is refused, and the
// process is named.
func proveClaimed(t *testing.T, j *judge) {
	a := j.boot(t, false, []string{"table new ubda --commit", "partition add ubda --size 8MiB --commit", "helper claim /dev/ubda1", "format ubda1 ext4 --commit", "deed list"}, blank(t, 64<<20))[0]
	says(t, a.Said[3:], [][]string{{"ubda1: it is claimed; process", "(exe) has it open", "nothing was changed", refused}, {" 2 ", "done", "yes", "ubda", fine}})
}

// proveRoot: below --root the text files of another system are changed; undo
// and recovery want the same word, and what is mounted elsewhere is told apart.
func proveRoot(t *testing.T, j *judge) {
	a := j.boot(t, false, []string{
		"format ubda ext4 --label herbarium --commit", "mkdir /target/etc", "fstab add ubda /srv/herbarium --root /target --commit", "fstab list --root /target", "fstab list",
		"mkdir /elsewhere", "mount ubda /elsewhere", "inspect ubda --root /target", "unmount /elsewhere", "mount /srv/herbarium --root /target", "unmount /target/srv/herbarium",
		"undo --commit", "undo --root /target --commit", "fstab list --root /target", "survey --root /nowhere",
	}, blank(t, 64<<20))[0]
	says(t, a.Said, [][]string{
		{fine}, {}, {"this machine (fernhill), the system below /target", "done: add an fstab line", fine}, {"/srv/herbarium", fine}, {}, {}, {"/elsewhere", fine},
		{"/elsewhere outside of /target", fine}, {fine}, {fine}, {fine}, {"it is about the system below /target; add --root /target", refused}, {"done: undo", fine}, {}, {"there is no such directory", refused},
	})
	if strings.Contains(a.Said[13], "herbarium") || strings.Contains(a.Said[4], "herbarium") {
		t.Errorf("lists: %s %s", a.Said[4], a.Said[13])
	}
}

// proveLater: where the kernel still has another partition in the place, in use,
// the table is written, the deed says that the next boot takes it up, and the
// exit code is 6.
func proveLater(t *testing.T, j *judge) {
	a := j.boot(t, false, []string{
		"table new ubda --commit", "stale ubda 7 2097152 1048576", "helper claim /dev/ubda7", "partition add ubda --size 8MiB --commit", "partition list ubda",
	}, blank(t, 64<<20))[0]
	says(t, a.Said[1:], [][]string{{"stale"}, {"holding"}, {"done: add partition 1", "takes it up only when it boots", "[exit status 6]"}, {"18431", fine}})
}

// proveImages: a partition of an image is mounted over a loop device with its
// offset and its sectors, which is gone when it is unmounted.
func proveImages(t *testing.T, j *judge) {
	a := j.run(t, start{modules: []string{"loop"}, images: []string{blank(t, 200<<20), blank(t, 64<<20)}, commands: []string{
		"format ubda ext4 --commit", "fstab add ubda /srv --commit", "mount /srv",
		"image /srv/card.img 67108864", "table new /srv/card.img --commit", "partition add /srv/card.img --size 40MiB --commit", "format /srv/card.img:1 ext4 --label card --commit",
		"mkdir /card", "mount /srv/card.img:1 /card", "loops", "survey /srv/card.img", "format /srv/card.img:1 ext4 --lose=card --commit", "survey", "names /srv/card.img",
		"format /srv/card-link.img:1 ext4 --lose=card --commit", "erase /srv/card-hard.img:1 --lose=card --commit", "table new /srv/card-dir/card.img --lose=card --commit", "partition remove /srv/card-link.img:1 --lose=card --commit", "label /srv/card-hard.img:1 mosses --commit", "survey /srv/card-hard.img",
		"unmount /card", "survey /srv/card.img", "loops",
		"carry ubdb 4096", "table new loop0 --commit --steps", "partition add loop0 --size max --commit --steps", "format loop0 ext4 --commit --lose=x", "unmount /srv",
	}})[1]
	says(t, a.Said, [][]string{
		{fine}, {fine}, {fine}, {"image"}, {fine}, {fine}, {fine}, {"<nil>"}, {"done: mount", fine}, {"loops: /srv/card.img offset 1048576 sector 512"}, {"/card", fine}, {"mounted at /card", refused},
		{"left out: loop0", fine}, {"named<nil>"}, {"mounted at /card", refused}, {"mounted at /card", refused}, {"mounted at /card", refused}, {"mounted at /card", refused}, {"done: label", fine}, {"/card", fine},
		{fine}, {"mosses", fine}, {"loops: "}, {"loop0"}, {"of 4096 bytes = 64.0 MiB", fine}, {"x 4096 bytes", fine},
	})
	if strings.TrimSpace(a.Said[22]) != "loops:" {
		t.Errorf("left: %s", a.Said[22])
	}
}

// proveRootDisk: the disk of the running root gets another partition, its root
// is refused; and on that machine the common table of refusals holds, with the
// kernel asked behind every row.
func proveRootDisk(t *testing.T, j *judge) {
	root, disk, other := j.root(t), blank(t, 300<<20), blank(t, 128<<20)
	second, err := json.Marshal(map[string]any{"Devices": []string{"ubdb"}, "Run": []string{
		"partition add ubda --size 50MiB --commit", "format ubda2 ext4 --label behind --commit", "format ubda1 ext4 --lose=ubda1 --commit", "partition remove ubda1 --commit",
		"table new ubda --commit", "survey", "look ubda", "conform ubdb ubda",
	}})
	if err := errors.Join(err, os.WriteFile(filepath.Join(root, "second.json"), second, 0o644)); err != nil {
		t.Fatal(err)
	}
	a := j.run(t, start{root: root, images: []string{disk}, commands: []string{
		"table new ubda --commit", "partition add ubda --size 200MiB --commit", "format ubda1 ext4 --label root --discard --commit", "install ubda1 /second.json",
	}})[0]
	says(t, a.Said, [][]string{{fine}, {fine}, {fine}, {"installed"}})
	a = j.answers(t, start{rootDisk: true, images: []string{disk, other}}, 1)[0]
	says(t, a.Said, [][]string{
		{"done: add partition 2", fine}, {"done: format ubda2", fine}, {"root", refused}, {"root", refused}, {"root", refused}, {"behind", fine},
		{`"1 2048 409600","2 411648 102400"`, `ubda2 mounted`}, {"42 rows, 10 actions, wrong: []"},
	})
}

// proveFrugal: an edit of a table writes what differs and little more, in seven
// syncs; the repair of one copy too; and a survey opens each node once.
func proveFrugal(t *testing.T, j *judge) {
	image := blank(t, 1<<40)
	first := j.boot(t, false, []string{"table new ubda --commit", "partition add ubda --size 1GiB --commit", "partition add ubda --size 1GiB --commit"}, image)
	says(t, first[0].Said, [][]string{{fine}, {fine}, {fine}})
	for _, words := range []string{"partition add ubda --size 1GiB", "partition edit ubda3 --name seeds --type /home", "resize ubda3 2GiB", "partition remove ubda2", "table repair ubda"} {
		if words == "table repair ubda" {
			spoil(t, image, 512+24)
		}
		before := duplicate(t, image)
		a := j.boot(t, false, []string{"counted ubda " + words + " --commit", "opens ubda survey"}, image)[0]
		var sectors, flushes int
		_, count, _ := strings.Cut(a.Said[0], "\nwrote ")
		if n, _ := fmt.Sscanf(count, "%d sectors, %d flushes", &sectors, &flushes); n != 2 {
			t.Fatalf("counting %s: %s", words, a.Said[0])
		}
		differ := differingSectors(t, before, image)
		if sectors > differ+70 || flushes > 7 || differ == 0 {
			t.Errorf("%s on 1 TiB wrote %d sectors in %d syncs; %d sectors differ", words, sectors, flushes, differ)
		}
		if strings.HasPrefix(words, "partition add") && !strings.HasSuffix(a.Said[1], "opened map[ubda:1 ubda1:1 ubda2:1 ubda3:1]") {
			t.Errorf("survey: %s", a.Said[1][strings.LastIndex(a.Said[1], "\n"):])
		}
		fmt.Printf("kernel proof: %s on 1 TiB: %d sectors written where %d differ, %d syncs\n", words, sectors, differ, flushes)
	}
}

// spoil turns a byte of the image round.
func spoil(t *testing.T, image string, at int64) {
	t.Helper()
	f, err := os.OpenFile(image, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	b := make([]byte, 1)
	_, errRead := f.ReadAt(b, at)
	b[0] ^= 0xFF
	_, errWrite := f.WriteAt(b, at)
	if err := errors.Join(errRead, errWrite, f.Close()); err != nil {
		t.Fatal(err)
	}
}

// proveTopology: a volume is shown with its name, with what it is built on and
// who holds that, can be formatted and mounted, and coming and going is told as
// it happens; figures are those of sysfs and statfs.
func proveTopology(t *testing.T, j *judge) {
	a := j.run(t, start{modules: []string{"dm-mod", "loop"}, images: []string{blank(t, 64<<20), blank(t, 64<<20)}, commands: []string{
		"table new ubda --commit", "partition add ubda --size 40MiB --commit", "watch", "map herbarium ubda1", "carry ubdb 512", "pause",
		"format herbarium ext4 --label herbarium --commit", "fstab add herbarium /srv --commit", "mount /srv --options noatime", "survey", "survey --all", "survey --unused", "inspect herbarium", "inspect ubda1", "statfs /srv", "unmount /srv", "fstab remove /srv --commit", "unmap herbarium", "watched dm-0 taken out",
		"format ubda1 ext4 --lose=herbarium --commit",
	}})[1]
	says(t, a.Said, [][]string{
		{fine}, {fine}, {"watching"}, {"mapped"}, {"loop0"}, {}, {"done: format dm-0", fine}, {fine}, {fine},
		{"volumes and arrays", "herbarium (dm-0)", "mapped device - on ubda1", "/srv", "in dm-0", "left out: loop0", fine}, {"loop0", "loop device - carries /dev/ubdb", fine},
		{"ubdb", fine}, {"ext4 herbarium", "mapped device", "/dev/mapper/herbarium", "40.0 MiB", "mounted with noatime; fstab says otherwise", fine}, {"ext4 herbarium", "held dm-0", fine}, {"blocks"}, {fine}, {fine}, {"mapped"},
		{"dm-0 plugged in", "40.0 MiB", "loop0 changed", "dm-0 taken out", fine}, {"done: format ubda1", fine},
	})
	var total, free, files, left int64
	if n, _ := fmt.Sscanf(a.Said[14], "blocks %d free %d files %d left %d", &total, &free, &files, &left); n != 4 {
		t.Fatal(a.Said[14])
	}
	for _, words := range []string{fmt.Sprintf("%d of %d bytes free", free, total), fmt.Sprintf("%d of %d free", left, files)} {
		if !strings.Contains(strings.Join(strings.Fields(a.Said[12]), " "), words) {
			t.Errorf("statfs says %s; inspect:\n%s", words, a.Said[12])
		}
	}
}
