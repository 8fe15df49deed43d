package cli

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"testing"

	"fundus/core/block"
	"fundus/core/block/file"
)

// states is a machine with a disk in each state that matters to whoever would write to it.
const states = `
$ fundus bench new fernhill --host fernhill
$ fundus bench disk add sdb --size 1GiB --serial AA-0001
$ fundus bench disk add sdc --size 1GiB --serial AA-0002
$ fundus table new sdc --commit
$ fundus partition add sdc --size 400MiB --size 100MiB --size 100MiB --commit
$ fundus format sdc1 ext4 --label herbarium --commit
$ sample fernhill/disks/sdc.img 420478976 swap, SWAPSPACE2
$ fundus bench disk add sdd --size 1GiB --serial AA-0003
$ fundus format sdd ext4 --label scans --commit
$ fundus bench disk add sde --size 1GiB --serial AA-0004
$ damage fernhill/disks/sde.img 500000000
$ fundus bench disk add sdf --size 1GiB --serial AA-0005
$ fundus table new sdf --commit
$ fundus partition add sdf --commit
$ fundus format sdf1 ext4 --label mosses --commit
$ damage fernhill/disks/sdf.img 552
$ damage fernhill/disks/sdf.img 1073741352
$ fundus bench disk add sdg --size 1GiB --serial AA-0006
$ fundus table new sdg --commit
$ fundus partition add sdg --commit
$ fundus format sdg1 ext4 --label seeds --commit
$ fundus bench disk add sdh --size 1GiB --serial AA-0007
$ fundus format sdh ext4 --label rock --commit
$ fundus bench disk fault sdh --read-error-at=0
$ fundus bench disk add sdi --size 1GiB --serial AA-0008
$ fundus bench disk fault sdi --hangs
$ fundus bench disk add sdk --size 1GiB --serial AA-0010
$ fundus table new sdk --scheme mbr --commit
$ fundus partition add sdk --size 900MiB --type extended --commit
$ fundus partition add sdk --in 1 --size 200MiB --commit
$ fundus format sdk5 ext4 --label ferns --commit
$ fundus bench disk add sdl --size 1GiB --serial AA-0011
$ sample fernhill/disks/sdl.img 0 physical volume
$ fundus bench disk add sdm --size 1GiB --serial AA-0012
$ sample fernhill/disks/sdm.img 0 iso9660
$ fundus bench disk add sdn --size 1GiB --serial AA-0013
$ fundus table new sdn --scheme mbr --commit
$ append fernhill/root/etc/fstab UUID=5eed5eed-0000-4000-8000-000000000bad /srv/gone ext4 defaults 0 2
$ append fernhill/root/etc/fstab UUID=5eed5eed-0000-4000-8000-000000000bad /usr ext4 defaults 0 2
$ append fernhill/root/etc/fstab UUID=5eed5eed-0000-4000-8000-000000000bad /boot/efi vfat defaults 0 2
$ append fernhill/root/etc/fstab LABEL=herbarium /srv/x xfs defaults 0 2
$ fundus mount sdd /mnt
$ fundus bench disk add sdj --size 1GiB --serial AA-0009
$ fundus format sdj ext4 --label old --commit
$ fundus bench disk fault sdj --cut-at-write=4
$ fundus format sdj ext4 --label fresh --lose=old --commit
$ fundus bench disk fault sdj --clear
$ fundus bench boot
`

// asked are commands that somebody may type of a target, or of the machine.
func asked(t string) []string {
	return []string{
		"survey " + t, "inspect " + t, "verify " + t, "references " + t, "settings " + t, "partition list " + t, "table save " + t,
		"table repair " + t, "table repair " + t + " --search", "table repair " + t + " --search --choose proposed --draft", "table convert " + t + " --scheme mbr --draft", "table convert " + t + " --scheme gpt --draft",
		"partition add " + t + " --size 50MiB --draft", "partition add " + t + " --size 50MiB --commit --content=keep --number 99", "partition edit " + t + " --name x --draft", "resize " + t + " 10MiB --draft", "resize " + t + " max --draft",
		"format " + t + " ext4 --commit --lose=nobody", "format " + t + " ext4 --uuid=keep --draft", "table new " + t + " --commit --lose=nobody", "partition remove " + t + " --commit", "label " + t + " x --draft",
		"mount " + t, "mount " + t + " /nowhere", "unmount " + t, "fstab add " + t + " /srv/y --draft", "fstab add " + t + " / --draft", "fstab remove " + t + " --draft", "rescan " + t + " --draft",
		"partition " + t, "table " + t, "umount " + t, "partition move " + t, "wipe " + t, "restore " + t, "erase " + t, "new " + t, "create " + t, "formt " + t, "partition remov " + t,
	}
}

// TestNoAdviceThatDestroys: over disks in all states, whatever is asked, no answer names a
// command that destroys for one that holds something, or may hold it; and none takes a
// line out of fstab without which the machine does not start.
func TestNoAdviceThatDestroys(t *testing.T) {
	w := newWorld(t)
	transcript(w, states)
	wipeEnds(t, "fernhill/disks/sdg.img")
	empty := map[string]bool{"sdb": true, "sdn": true}
	targets := []string{"", "sda", "sda1", "sdb", "sdc", "sdc1", "sdc2", "sdc3", "sdd", "sde", "sdf", "sdg", "sdh", "sdi", "sdj", "sdk", "sdk1", "sdk5", "sdl", "sdm", "sdn"}
	named := regexp.MustCompile(`fundus (format|table new|table restore|partition remove|erase|fstab remove) (\S+)`)
	looked, allowed := 0, map[string]int{}
	for _, target := range targets {
		lines := asked(target)
		if target == "" {
			lines = []string{"survey", "survey --unused", "verify", "rehearse", "fstab check", "fstab list", "mount --all", "undo", "recover --direction=sideways", "deed list", "draft list", "inspect", "format", "surevy", "remove"}
		}
		for _, line := range lines {
			var out bytes.Buffer
			e := *w.env
			e.o = options{}
			e.Out, e.Err = &out, &out
			Run(context.Background(), &e, splitWords(line))
			looked++
			text := strings.Join(strings.Fields(out.String()), " ")
			for _, m := range named.FindAllStringSubmatch(text, -1) {
				thing := strings.TrimRight(m[2], ".,;:)")
				switch {
				case m[1] == "fstab remove" && slices.Contains([]string{"/", "/usr", "/boot", "/boot/efi"}, thing):
				case m[1] == "fstab remove", empty[thing]:
					allowed[m[1]+" "+thing]++
					continue
				}
				t.Errorf("fundus %s says %q", line, m[0])
			}
		}
	}
	if allowed["table new sdb"] == 0 || allowed["format sdb"] == 0 || allowed["fstab remove /srv/gone"] > 0 {
		t.Errorf("allowed: %v", allowed)
	}
	fmt.Printf("advice: %d answers about %d targets; of commands that destroy only %v are named\n", looked, len(targets)-1, slices.Sorted(maps.Keys(allowed)))
}

// wipeEnds zeroes what a table is known by: its first sectors and its last.
func wipeEnds(t *testing.T, path string) {
	t.Helper()
	d, err := file.Open(path, true, block.Geometry{Logical: 512})
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	for _, at := range []int64{0, d.Size() - 34*512} {
		if err := d.WriteZeroes(at, 34*512); err != nil {
			t.Fatal(err)
		}
	}
}
