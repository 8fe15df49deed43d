//go:build proof

package kernel

import (
	"bytes"
	"fmt"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/block/file"
	"fundus/core/fs"
	"fundus/core/fs/xfs"
	"fundus/core/kind"
	"fundus/core/quantity"
	"fundus/test/amount"
)

// xfsCase is an XFS that is made and put before the kernel.
type xfsCase struct {
	size     int64
	settings string // as they are typed
	how      string // what the guest does with it
}

// xfsCases lists what is made: the corner cases first.
func xfsCases() (list []xfsCase) {
	const m, g = 1 << 20, 1 << 30
	add := func(size int64, settings, how string) { list = append(list, xfsCase{size, settings, how}) }
	add(64*m, "", "fill cut")
	add(300*m, "", "cut grow=131072")
	add(300*m, "sector=4KiB", "cut")
	add(300*m, "block=1KiB", "cut fill")
	add(300*m, "log-unit=256KiB", "cut")
	add(1*g, "stripe-unit=64KiB stripe-width=256KiB", "cut")
	add(64*m, "stripe-unit=12KiB stripe-width=36KiB", "cut fill") // the log in group 0, behind a gap
	add(300*m, "for=5.4", "cut")
	add(300*m, "reverse-map=no shared-blocks=no free-inode-tree=no sparse-inodes=no late-times=no", "cut")
	add(300*m, "block=2KiB inode-size=1KiB sector=512 log-unit=4KiB", "cut")
	add(300*m, "for=6.6", "cut")
	add(4096*(4*16<<8+63)+64*m, "group-size=16MiB log=20MiB", "") // refused: the log has no room
	for _, block := range []string{"1KiB", "2KiB", "4KiB"} {
		for _, sector := range []string{"512", "4KiB"} {
			for _, inode := range []string{"512", "1KiB", "2KiB"} {
				add(300*m, "block="+block+" sector="+sector+" inode-size="+inode, "cut")
			}
		}
		for _, reverse := range []string{"yes", "no"} {
			for _, shared := range []string{"yes", "no"} {
				for _, unit := range []string{"", " log-unit=4KiB", " log-unit=32KiB", " log-unit=64KiB", " log-unit=256KiB"} {
					add(300*m, "block="+block+" reverse-map="+reverse+" shared-blocks="+shared+unit, "cut")
				}
			}
		}
		for _, off := range []string{"free-inode-tree", "sparse-inodes", "inode-counts", "late-times"} {
			add(300*m, "block="+block+" "+off+"=no", "")
		}
		add(300*m, "block="+block+" large-extent-counts=yes", "")
		add(300*m, "block="+block+" directory-block=64KiB", "fill")
		add(300*m, "block="+block+" root-user=1000 root-group=1001 root-mode=2775", "")
		for _, stripe := range []string{"8KiB stripe-width=24KiB", "64KiB stripe-width=64KiB", "512KiB stripe-width=2MiB", "1MiB stripe-width=8MiB"} {
			add(1*g, "block="+block+" stripe-unit="+stripe, "cut")
		}
	}
	for _, pair := range []string{"reverse-map=yes shared-blocks=yes", "reverse-map=yes shared-blocks=no", "reverse-map=no shared-blocks=yes", "reverse-map=no shared-blocks=no"} {
		for _, unit := range []string{"4KiB", "32KiB", "64KiB", "256KiB"} {
			add(300*m, "sector=4KiB log-unit="+unit+" "+pair, "cut")
		}
		add(300*m, "inode-size=1KiB "+pair, "cut")
		add(300*m, "inode-size=2KiB for=boot "+pair, "cut")
	}
	// Around the border of a group, and with a last group that is too short to be of use.
	for _, delta := range []int64{-4096, 0, 4096, 63 * 4096, 64 * 4096, 16*m - 4096, 16 * m} {
		add(4*64*m+delta, "group-size=64MiB", "cut grow=131072")
	}
	for _, count := range []string{"1", "2", "3", "5", "7"} {
		add(400*m, "group-count="+count, "fill cut")
	}
	for _, size := range []int64{65 * m, 80 * m, 100 * m, 128 * m, 160 * m, 200 * m, 256*m + 512, 511 * m, 513 * m} {
		add(size, "", "fill cut grow=262144")
	}
	for _, size := range []int64{2 << 40, 16<<40 + 4096} {
		add(size, "", "")
		add(size, "block=1KiB group-size=1TiB", "")
	}
	return list
}

// proveXFS: what Fundus makes is mounted, used, gone through, filled, grown and cut off by
// the kernel, which finds nothing, and counts what was planned.
func proveXFS(t *testing.T, j *judge) {
	all := amount.Sample(xfsCases(), 11, 17, 18)
	made, scrubbed, read := 0, 0, 0
	for len(all) > 0 {
		const batch = 14
		list := all[:min(batch, len(all))]
		all = all[len(list):]
		var images, commands, want []string
		var which []xfsCase
		for i, c := range list {
			path, l := newXFS(t, c, i%2 == 0)
			if l == nil {
				continue
			}
			which = append(which, c)
			images, commands = append(images, path), append(commands, fmt.Sprintf("xfs /dev/ubd%c %s", 'a'+len(images), c.how))
			want = append(want, fmt.Sprintf(" of %d free, %d bytes, ", l.Blocks-l.LogBlocks, l.Block))
			made++
		}
		a := j.run(t, start{modules: []string{"xfs"}, images: images, commands: commands})[len(images)-1]
		for i, said := range a.Said {
			if !strings.Contains(said, want[i]) || !strings.HasSuffix(said, "scrubbed; wrong: ") {
				t.Errorf("%d bytes, %s (%s): %q, want %q", which[i].size, which[i].settings, which[i].how, said, want[i])
			}
			if !strings.Contains(said, "not scrubbed") {
				scrubbed++
			}
			if read < 10 && !strings.Contains(which[i].settings, "6.6") && bootLoaderReads(t, images[i]) {
				read++
			}
		}
		for _, line := range a.Kernel {
			known := strings.Contains(line, "EXPERIMENTAL") || strings.Contains(line, "User initiated shutdown") || strings.Contains(line, "Please unmount") || strings.Contains(line, "xfs_fs_goingdown")
			if level, _, _ := strings.Cut(line, ","); strings.Contains(line, "XFS") && level < "5" && !known {
				t.Errorf("the kernel says: %s", line)
			}
		}
	}
	if scrubbed < made {
		fmt.Println("lacking: XFS that the kernel itself goes through")
	}
	fmt.Printf("kernel proof: %d XFS are what was planned, %d of them gone through by the kernel, %d read by the boot loader's reader: %v\n", made, scrubbed, read, !t.Failed())
}

// newXFS makes one in an image, or sees to it that it is refused; every second one with an
// identifier of its own in the metadata.
func newXFS(t *testing.T, c xfsCase, again bool) (string, *xfs.Layout) {
	t.Helper()
	order := orderOf(c.settings, again)
	path, err := imageOf(t, "xfs", c.size, c.settings, again)
	if err != nil {
		t.Logf("%d bytes, %s: %v", c.size, c.settings, err)
		return "", nil
	}
	l, err := xfs.PlanOrder(quantity.Bytes(c.size/512*512), block.DefaultGeometry, order)
	if err != nil {
		t.Fatal(err)
	}
	return path, l
}

// orderOf is an order with settings as they are typed.
func orderOf(settings string, again bool) fs.Order {
	wishes := fs.Wishes{}
	for _, word := range strings.Fields(settings) {
		key, value, _ := strings.Cut(word, "=")
		wishes[key] = fs.Wish{Word: value, By: fs.ByRequest}
	}
	return fs.Order{Label: "moss", ID: fs.Wide.Fresh(uuid.New()), Again: again, Wishes: wishes, Time: time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC), Fresh: uuid.New}
}

// imageOf makes a file system in an image with room to grow.
func imageOf(t *testing.T, word string, size int64, settings string, again bool) (string, error) {
	t.Helper()
	m, err := kind.FindMaker(word)
	if err != nil {
		t.Fatal(err)
	}
	path := blank(t, max(size, 1<<30))
	dev, err := file.Open(path, true, block.DefaultGeometry)
	if err != nil {
		t.Fatal(err)
	}
	defer dev.Close()
	part, err := block.NewSlice(dev, 0, size/512*512)
	if err != nil {
		t.Fatal(err)
	}
	_, err = m.Make(t.Context(), part, orderOf(settings, again))
	return path, err
}

// proveXFSAgain: on a true disk of 4096-byte sectors; and an identifier that is kept over a
// former XFS, or changed on a used one, survives cuts: blocks of before are not taken for
// newer ones.
func proveXFSAgain(t *testing.T, j *judge) {
	const driver = "/sys/bus/pseudo/drivers/scsi_debug/"
	id := uuid.New().String()
	commands := []string{"put " + driver + "add_host 1", "pause", "format sda xfs --label moss --commit", "xfs /dev/sda fill cut", "format sda xfs block=4KiB stripe-unit=64KiB stripe-width=256KiB --lose=moss --commit", "xfs /dev/sda cut"}
	want := [][]string{{}, {}, {fine}, {"scrubbed; wrong: "}, {fine}, {"scrubbed; wrong: "}}
	right := "wrong: "
	for i := range amount.Of(2, 10) { // seeds: how much is written, so that the log ends elsewhere
		many, few := 40+17*i, 3+5*i
		use := func(n int) {
			commands = append(commands, fmt.Sprintf("fills /dev/ubda %d", n), fmt.Sprintf("reads /dev/ubda %d", n))
			want = append(want, []string{right}, []string{right})
		}
		format := func(options string) {
			commands, want = append(commands, "format ubda xfs "+options+" --commit"), append(want, []string{fine})
		}
		change := func(id string) {
			commands, want = append(commands, "newuuid /dev/ubda "+id), append(want, []string{"changed"})
		}
		format("--uuid=" + id + map[bool]string{true: " --lose=ubda"}[i > 0])
		use(many)
		use(many)
		format("--uuid=keep --lose=ubda")
		use(few)
		change(uuid.New().String())
		use(few)
		change(id)
		use(few)
	}
	for _, c := range []struct{ command, want string }{ // labels, mounted and not
		{"mkdir /srv/a", ""}, {"mount ubda /srv/a", fine}, {"label ubda mosses --commit", fine}, {"survey ubda", "mosses"}, {"undo --commit", fine}, {"label ubda spores --commit", fine}, {"unmount /srv/a", fine},
		{"survey ubda", "spores"}, {"label ubda ferns --commit", fine}, {"label ubda --none --commit", fine}, {"label ubda seeds --commit", fine}, {"xfs /dev/ubda cut", "scrubbed; wrong: "}, {"survey ubda", "seeds"},
	} {
		commands, want = append(commands, c.command), append(want, []string{c.want})
	}
	a := j.run(t, start{modules: []string{"xfs", "sd_mod", "scsi_debug add_host=0 dev_size_mb=200 sector_size=4096"},
		boot: []string{"scsi_debug.add_host=0", "scsi_debug.dev_size_mb=200", "scsi_debug.sector_size=4096"}, images: []string{blank(t, 100<<20)}, commands: commands})[0]
	for i, said := range a.Said {
		for _, w := range want[i] {
			if w == right && said != right || !strings.Contains(said, w) || strings.Contains(w, "scrubbed") && !strings.HasSuffix(said, w) {
				t.Errorf("%s: %q, want %q", commands[i], said, w)
			}
		}
	}
}

// bootLoaderReads lets the boot loader's own reader find the tree that a kernel wrote.
func bootLoaderReads(t *testing.T, image string) bool {
	t.Helper()
	for _, i := range []int{1, 57, 120} {
		want := make([]byte, i*37)
		for k := range want {
			want[k] = byte(i*7 + k*13)
		}
		got, err := exec.Command("grub-fstest", image, "cat", fmt.Sprintf("(loop0)/shelf%d/sheet%d", i%20, i)).Output()
		if err != nil || !bytes.Equal(got, want) {
			t.Errorf("the boot loader's reader, sheet %d: %d bytes, %v", i, len(got), err)
			return false
		}
	}
	return true
}
