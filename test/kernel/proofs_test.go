//go:build proof

package kernel

import (
	"errors"
	"flag"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/block/file"
	"fundus/core/fs/ext"
	"fundus/core/quantity"
	"fundus/test/amount"
)

// soakOnly begins the names of proofs that only repeat another one.
const soakOnly = "once more: a "

// proof is one of those that the kernel, systemd or the boot loader judges. Whoever runs
// them begins with those that stand on folders that the last commits touched.
type proof struct {
	name string
	run  func(*testing.T, *judge)
	on   string // such folders
}

func proofs() []proof {
	return []proof{
		{"rounds beside systemd and udev", proveRounds, "core/units internal/machine/live"},
		{"the machine is ended in a format", proveEndedFormat(1), "core/fs/ext internal/deed core/fence"},
		{"the machine is ended in a format, other moments", proveEndedFormat(2), "core/fs/ext internal/deed core/fence"},
		{"the machine is ended in a table edit", proveEndedTable, "core/table internal/deed"},
		{"a disk from a bench: partitions, tree, full, empty", proveDisk, "core/fs/ext core/table"},
		{"small blocks and a label", proveSmall, "core/fs/ext"},
		{"a terabyte, sparse", proveTerabyte, "core/fs/ext"},
		{"an undone format mounts as what it was", proveUndo, "internal/deed internal/task/past"},
		{"the road on the machine itself", proveRoad, "internal/cli internal/view"},
		{"the whole road as one deed", proveOneDeed, "internal/stage internal/task"},
		{"a disk is prepared, booted and taken back", provePrepare, "internal/task/prepare internal/deed"},
		{"beside a neighbour that is written to", proveNeighbour, "core/table internal/machine/live"},
		{"undo before and after a mount", proveUndoAfterMount, "internal/deed internal/task/past"},
		{"what was made to mount on goes with its undo", proveMadePlaces, "internal/task/past internal/stage internal/machine/live"},
		{"the kernel grows it online", proveGrow, "core/fs/ext"},
		{"every threshold of ext4's layout", proveGeometries, "core/fs/ext"},
		{"sectors of 4096 bytes", proveLargeSectors, "core/block core/table core/fs/ext"},
		{"tables beside the kernel's lists and udev's links", proveTables, "core/table core/scan"},
		{"a root on a logical partition that grows", proveLogicalRoot, "core/table/mbr internal/task/space core/stack"},
		{"a disk that has become larger", proveRescan, "internal/task/space core/stack"},
		{"a drive that has become larger", proveGrownDrive, "internal/machine/live"},
		{"hundreds of gigabytes and more than 16 TiB", proveHuge, "core/fs/ext"},
		{"nothing starts by itself", proveNothingStarts, "core/probe core/scan internal/task/disk"},
		{"several signatures on the same bytes", proveTwofold, "core/probe core/scan core/kind"},
		{"references beside udev's links", proveReferences, "core/refs"},
		{"figures of the kernel, and a device that answers nothing", proveFigures, "internal/machine/live"},
		{"topology, and disks that come and go", proveTopology, "internal/machine/live core/inventory"},
		{"what is in use is refused", proveInUse, "internal/machine"},
		{"what is claimed names who", proveClaimed, "internal/machine"},
		{"what only the next boot takes up", proveLater, "internal/machine/live"},
		{"images over loop devices", proveImages, "internal/machine/image"},
		{"a system below a directory", proveRoot, "internal/machine core/text"},
		{"the disk of the running root", proveRootDisk, "internal/machine/live"},
		{"frugal writes and looks", proveFrugal, "internal/look internal/deed"},
		{"cuts of a format over a file system", proveFormatCuts, "core/fs/ext internal/deed core/fence"},
		{"cuts of table edits", proveTableCuts, "core/table internal/deed"},
		{"what the kernel refuses at a mount", proveRefused, "core/fs core/kind"},
		{"FAT of every kind", proveFAT, "core/fs/fat"},
		{"XFS of every shape", proveXFS, "core/fs/xfs"},
		{"ext2, ext3 and ext4 of every shape", proveExt, "core/fs/ext"},
		{"XFS on a disk of 4096-byte sectors, and identifiers kept and changed", proveXFSAgain, "core/fs/xfs"},
		{"settings given later", proveAdjust, "core/fs internal/task/content"},
		{"who keeps a mount busy", proveHeld, "internal/machine/live"},
		{"mounts in the kernel's words", proveWords, "core/mountopt internal/task/mount"},
		{"files put together while they are written", proveGather, "core/gather internal/task/mount internal/oscall"},
		{"ext2, ext3 and ext4 that were made larger", proveGrown, "core/fs/ext"},
		{"a growth is what was foretold", proveForetold, "core/fs/ext"},
		{"a growth of XFS is what was foretold", proveForetoldXFS, "core/fs/xfs"},
		{"units are started, stopped and there after a boot", proveUnits, "core/units core/text/unit"},
		{"boots are what was foretold", proveBoots, "core/boot core/units core/text"},
		{"file systems grow while they are mounted and written to", proveLive, "core/fs core/stack internal/task/space"},
		{"lines that systemd mounts", proveLines, "core/text/fstab"},
		{"from a blank disk to a home", proveHome, "internal/task/mount internal/oscall"},
		{"swap that is needed", proveGivenUp, "core/memory core/fs/swap"},
		{"swap areas", proveSwap, "core/fs/swap"},
		{"what a kernel filled comes back", proveReturns, "internal/deed"},
		{"names beside udev", proveNames, "core/fs"},
		{"every mount option", proveOptions, "core/mountopt"},
		{"an fstab that cannot simply be replaced", proveAwkward, "internal/oscall"},
		{"probes beside udev", proveProbes, "core/probe core/kind"},
		{"a guest that hangs is ended, and named", proveEnded, "test/watch"},
		{"what systemd's generator writes", proveGenerator, "core/text/fstab core/units"},
		{"the names of units", proveUnitNames, "core/text/unit"},
		{"units that systemd verifies", proveVerified, "core/text/unit core/units"},
		{"FAT before the boot loader's reader", proveBootLoader, "core/fs/fat"},
		{"a program that knows documents alone", proveDocuments, "internal/view core/target core/refused"},
		{"the same is typed on a bench and on the kernel", proveWalk, "internal/machine internal/task internal/cli"},
		{soakOnly + "second machine's rounds beside systemd and udev", proveRounds, "core/units internal/machine/live"},
		{soakOnly + "third machine's rounds beside systemd and udev", proveRounds, "core/units internal/machine/live"},
		{soakOnly + "fourth machine's rounds beside systemd and udev", proveRounds, "core/units internal/machine/live"},
	}
}

// TestMain names the proofs, one a line with the folders that it stands on, where it is
// asked to.
func TestMain(m *testing.M) {
	named := flag.Bool("proofs", false, "name the proofs")
	flag.Parse()
	if !*named {
		os.Exit(m.Run())
	}
	for _, p := range proofs() {
		if !strings.HasPrefix(p.name, soakOnly) || amount.Soak() {
			fmt.Printf("%s\t%s\n", p.name, p.on)
		}
	}
}

// TestKernel runs the proofs.
func TestKernel(t *testing.T) {
	j := newJudge(t)
	for _, p := range proofs() {
		if !strings.HasPrefix(p.name, soakOnly) || amount.Soak() {
			t.Run(p.name, func(t *testing.T) { p.run(t, j) })
		}
	}
}

// clean is the answer of a kernel that found nothing to complain about.
func clean(t *testing.T, a Answer, partitions, mounts []string) {
	t.Helper()
	if fmt.Sprint(a.Partitions) != fmt.Sprint(partitions) || fmt.Sprint(a.Mounts) != fmt.Sprint(mounts) {
		t.Errorf("the kernel has partitions %v, mounts %v; want %v, %v", a.Partitions, a.Mounts, partitions, mounts)
	}
	a.Log = slices.DeleteFunc(a.Log, func(line string) bool { // an empty partition is none, and the kernel says so
		return strings.Contains(line, "VFS: Can't find ext4 filesystem") && strings.Contains(fmt.Sprint(mounts), " invalid argument")
	})
	if len(a.Used) > 0 || len(a.Log) > 0 {
		t.Errorf("using it: %v\nkernel log: %v", a.Used, a.Log)
	}
}

// withoutUnsupported leaves out that an image in memory cannot be told to zero
// a range: the kernel then writes the zeros.
func withoutUnsupported(log []string) []string {
	return slices.DeleteFunc(log, func(line string) bool { return strings.Contains(line, "operation not supported error") })
}

func proveDisk(t *testing.T, j *judge) {
	b := j.bench(t, "600MiB")
	b.must("table", "new", "sdb", "--commit")
	b.must("partition", "add", "sdb", "--size", "40MiB", "--commit")
	b.must("partition", "add", "sdb", "--size", "max", "--name", "herbarium", "--commit")
	b.must("partition", "remove", "sdb1", "--commit")
	b.must("format", "sdb2", "ext4", "--label", "herbarium", "block=4096", "--commit")
	// 41 MiB from the start; 558 MiB up to the backup table, in sectors.
	clean(t, j.ask(t, true, b.image())[0], []string{"2 83968 1142784"}, []string{"ubda2 mounted"})
}

func proveSmall(t *testing.T, j *judge) {
	b := j.bench(t, "64MiB")
	b.must("format", "sdb", "ext4", "--label", "seeds", "block=1KiB", "--commit")
	b.must("label", "sdb", "mosses", "--commit")
	clean(t, j.ask(t, true, b.image())[0], nil, []string{"ubda mounted"})
}

func proveTerabyte(t *testing.T, j *judge) {
	b := j.bench(t, "1TiB")
	b.must("format", "sdb", "ext4", "--label", "archive", "--commit")
	clean(t, j.ask(t, false, b.image())[0], nil, []string{"ubda mounted"})
}

func proveUndo(t *testing.T, j *judge) {
	b := j.bench(t, "64MiB")
	b.must("format", "sdb", "ext4", "--label", "old", "--commit")
	b.must("format", "sdb", "ext4", "--label", "new", "--lose=old", "--commit")
	b.must("undo", "--commit")
	clean(t, j.ask(t, true, b.image())[0], nil, []string{"ubda mounted"})
}

// says holds what the commands printed against words that each must contain.
func says(t *testing.T, said []string, want [][]string) {
	t.Helper()
	for i, list := range want {
		for _, words := range list {
			if i >= len(said) || !strings.Contains(said[i], words) && !strings.Contains(strings.Join(strings.Fields(said[i]), " "), words) {
				t.Errorf("command %d does not say %q:\n%s", i, words, strings.Join(said, "\n---\n"))
				return
			}
		}
	}
}

// blank is an image without anything.
func blank(t *testing.T, size int64) string {
	t.Helper()
	dir := ""
	if size > 1<<40 { // larger than files may be elsewhere
		dir = memoryDir()
	}
	f, err := os.CreateTemp(dir, "fundus-blank-*.img")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.Remove(f.Name()) })
	if err := errors.Join(f.Truncate(size), f.Close()); err != nil {
		t.Fatal(err)
	}
	return f.Name()
}

const (
	fine    = "[<nil>]"
	refused = "[exit status 1]"
)

// proveRoad: on the machine itself, from a blank disk to a mounted file system
// that the next boot finds, and the way back; then the kernel uses it.
func proveRoad(t *testing.T, j *judge) {
	a := j.boot(t, true, []string{
		"survey", "table new ubda --commit", "partition add ubda --size 100MiB --name herbarium --commit", "format ubda1 ext4 --label herbarium --commit",
		"fstab add ubda1 /srv/herbarium --commit", "mount /srv/herbarium", "survey", "rehearse", "verify", "unmount /srv/herbarium", "undo --commit",
		"format ubda1 ext4 --label other --commit", "format ubda1 ext4 --label other --lose=herbarium --commit", "undo --commit", "inspect ubda1", "deed list",
	}, blank(t, 200<<20))[0]
	says(t, a.Said, [][]string{
		{"ubda", "200.0 MiB  no table", "empty", fine}, {"done: put a new GPT on ubda", fine}, {"done: add partition 1 on ubda", fine}, {"done: format ubda1", fine},
		{"done: add an fstab line", fine}, {"done: mount ubda1", fine}, {"1.0 MiB 100.0 MiB ext4 herbarium /srv/herbarium", fine}, {"comes up", fine}, {"1 partition and 1 line of fstab", fine},
		{"done: unmount", fine}, {"done: undo", fine}, {"--lose=herbarium", refused}, {"done: format", fine}, {"done: undo", fine}, {"ext4 herbarium", "in order", fine}, {"undone", fine},
	})
	clean(t, a, []string{"1 2048 204800"}, []string{"ubda1 mounted"})
}

// proveOneDeed: a table, a partition, a file system, a line of fstab and the mount are one
// deed. The partition has no node when it is planned; what is written to it then is what
// the kernel mounts, at once and after the next boot.
func proveOneDeed(t *testing.T, j *judge) {
	a := j.boot(t, true, []string{
		"chain ubda herbarium", "survey", "deed list", "writer /srv/herbarium", "pause", "rest", "unmount /srv/herbarium", "rehearse", "verify",
	}, blank(t, 200<<20))[0]
	says(t, a.Said, [][]string{
		{"one deed of ", fine}, {"1.0 MiB 100.0 MiB ext4 herbarium /srv/herbarium", fine}, {"done yes ubda", fine}, {}, {}, {"wrote "}, {fine}, {"comes up", fine}, {"in order", fine},
	})
	clean(t, a, []string{"1 2048 204800"}, []string{"ubda1 mounted"})
}

// proveNeighbour: partitions come and go beside one that is mounted and written
// to; the kernel's list follows, and the writer never notices. What is in use
// is refused.
func proveNeighbour(t *testing.T, j *judge) {
	a := j.boot(t, false, []string{
		"table new ubda --commit", "partition add ubda --size 100MiB --commit", "partition add ubda --size 20MiB --commit", "format ubda1 ext4 --label herbarium --commit",
		"fstab add ubda1 /srv/herbarium --commit", "mount /srv/herbarium", "writer /srv/herbarium",
		"partition add ubda --size 10MiB --commit", "partition remove ubda2 --commit", "partition add ubda --size 5MiB --commit",
		"format ubda1 ext4 --lose=herbarium --commit", "label ubda1 mosses --commit", "partition remove ubda1 --lose=mosses --commit",
		"format ubda ext4 --lose=mosses --commit", "table new ubda --lose=mosses --commit", "undo 4 --commit", "rest", "unmount /srv/herbarium",
	}, blank(t, 200<<20))[0]
	says(t, a.Said, [][]string{
		{fine}, {fine}, {fine}, {fine}, {fine}, {fine}, {}, {"done: add partition 3", fine}, {"done: remove partition 2", fine}, {"done: add partition 2", fine},
		{"it is mounted at /srv/herbarium", refused}, {"done: label ubda1", fine}, {"it is mounted", refused}, {"it is mounted", refused}, {"it is mounted", refused}, {refused}, {"wrote "}, {fine},
	})
	clean(t, a, []string{"1 2048 204800", "2 206848 10240", "3 247808 20480"}, []string{"ubda1 mounted", "ubda2 invalid argument", "ubda3 invalid argument"})
}

// proveGrow: the kernel finds the descriptor blocks that were reserved for
// growing, and their copies, and grows the file system while it is mounted:
// over many groups, with small and with usual blocks.
func proveGrow(t *testing.T, j *judge) {
	for _, c := range []struct{ block, from, to int64 }{{1024, 40 << 20, 900 << 20}, {4096, 600 << 20, 40 << 30}} {
		image := blank(t, c.to)
		dev, err := file.Open(image, true, block.DefaultGeometry)
		if err != nil {
			t.Fatal(err)
		}
		part, err := block.NewSlice(dev, 0, c.from)
		if err == nil {
			o := ext.Usual(ext.Ext4).With("", uuid.New(), time.Now())
			o.BlockSize = quantity.Bytes(c.block)
			_, err = ext.Make(t.Context(), part, o)
		}
		if err := errors.Join(err, dev.Close()); err != nil {
			t.Fatal(err)
		}
		a := j.boot(t, c.to < 1<<30, []string{fmt.Sprintf("grow /dev/ubda %d", c.to/c.block)}, image)[0]
		var free int64
		if n, _ := fmt.Sscanf(a.Said[0], "grown to %d free blocks", &free); n != 1 || free < c.to/c.block*8/10 {
			t.Errorf("from %d to %d bytes in blocks of %d: %s", c.from, c.to, c.block, a.Said[0])
		}
		clean(t, a, nil, []string{"ubda mounted"})
	}
}

// proveUndoAfterMount: a format is undone exactly before the kernel mounts it
// for writing, and refused with the reason afterwards.
func proveUndoAfterMount(t *testing.T, j *judge) {
	a := j.boot(t, false, []string{
		"format ubda ext4 --label old --commit", "fstab add ubda /srv/old --commit", "mount /srv/old", "unmount /srv/old", "undo 1 --commit",
		"fstab remove /srv/old --commit", "format ubda ext4 --label new --lose=old --commit", "undo --commit", "inspect ubda",
	}, blank(t, 64<<20))[0]
	says(t, a.Said, [][]string{{fine}, {fine}, {fine}, {fine}, {"something was written there since", "mounted for writing", refused}, {fine}, {fine}, {fine}, {"ext4 old", "in order", fine}})
	clean(t, a, nil, []string{"ubda mounted"})
}

// proveMadePlaces: what made a mount point and a line is taken back while the device is mounted
// there; where somebody mounted another one there since, it is refused with the way out.
func proveMadePlaces(t *testing.T, j *judge) {
	commands := []string{
		"format ubda ext4 --label one --commit", "format ubdb ext4 --label two --commit",
		"mount ubda /srv/one --make --persist --owner 7:7 --mode 2770 --commit", "undo --commit", "survey ubda", "gone /srv/one",
		"fstab add ubda /srv/three --commit", "mount /srv/three", "undo --commit", "survey ubda", "gone /srv/three",
		"fstab add ubda /srv/four --commit", "mount ubdb /srv/four", "undo --commit", "unmount /srv/four", "undo --commit", "gone /srv/four", "fstab list",
	}
	a := j.boot(t, false, commands, blank(t, 64<<20), blank(t, 64<<20))[1]
	says(t, a.Said, [][]string{
		{fine}, {fine},
		{"done: mount ubda at /srv/one", fine}, {"done: undo", fine}, {"ext4", fine}, {"gone<nil>"},
		{fine}, {fine}, {"is unmounted from /srv/three first", "done: undo", fine}, {"ext4", fine}, {"gone<nil>"},
		{fine}, {fine}, {"ubdb is mounted there", "fundus unmount /srv/four", refused}, {fine}, {"done: undo", fine}, {"gone<nil>"}, {"the file is missing", refused},
	})
	if len(a.Said) > 9 && (strings.Contains(a.Said[4], "/srv/one") || strings.Contains(a.Said[9], "/srv/three")) {
		t.Errorf("mounted still:\n%s\n%s", a.Said[4], a.Said[9])
	}
}

// cutImages runs the command with the power cut before each of its writes and
// syncs, and gives the images that are left.
func cutImages(t *testing.T, j *judge, prepare [][]string, command []string) (images []string) {
	t.Helper()
	for n := 1; ; n++ {
		b := j.bench(t, "64MiB")
		for _, p := range prepare {
			b.must(p...)
		}
		b.must("bench", "disk", "fault", "sdb", "--cut-at-write", strconv.Itoa(n), "--seed", strconv.Itoa(n))
		out, code := b.run(command...)
		if code == 0 && n > 2 {
			return append(images, b.image()) // at last the one that was not cut
		}
		if code != 5 {
			t.Fatalf("cut at %d: exit %d\n%s", n, code, out)
		}
		images = append(images, b.image())
	}
}

// different says how many of the images differ.
func different(t *testing.T, images []string) *amount.States {
	t.Helper()
	var states amount.States
	for _, image := range images {
		dev, err := file.Open(image, false, block.DefaultGeometry)
		if err == nil {
			_, err = states.See(dev)
			err = errors.Join(err, dev.Close())
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	return &states
}

// together asks in batches of as many disks as the kernel takes.
func (j *judge) together(t *testing.T, images []string) (answers []Answer) {
	t.Helper()
	const most = 12
	for len(images) > 0 {
		n := min(len(images), most)
		answers = append(answers, j.ask(t, false, images[:n]...)...)
		images = images[n:]
	}
	return answers
}

// proveFormatCuts: after each cut of a format over a file system the kernel
// mounts the old one, or nothing; never a half-made one, and no error follows.
func proveFormatCuts(t *testing.T, j *judge) {
	images := cutImages(t, j, [][]string{{"format", "sdb", "ext4", "--label", "old", "block=1KiB", "--commit"}},
		[]string{"format", "sdb", "ext4", "--label", "new", "block=1KiB", "--lose=old", "--commit"})
	mounted, fenced := 0, 0
	for i, a := range j.together(t, images) {
		switch said := a.Mounts[0]; {
		case strings.HasSuffix(said, " mounted"):
			mounted++
		case strings.HasSuffix(said, " invalid argument"):
			fenced++
		default:
			t.Errorf("cut at %d: %s", i+1, said)
		}
		for _, line := range a.Log {
			if !strings.Contains(line, "Can't find ext4 filesystem") && !strings.Contains(line, "VFS:") {
				t.Errorf("cut before the %d images: %s", i+1, line)
			}
		}
	}
	if mounted == 0 || fenced == 0 {
		t.Errorf("%d mounted, %d fenced: the cuts prove nothing", mounted, fenced)
	}
	fmt.Printf("kernel proof: %d cuts of a format: %d mount, %d are refused; of %v\n", len(images), mounted, fenced, different(t, images))
}

// proveTableCuts: after each cut of an edit of a table the kernel sees the old
// partitions or the new ones, on a GPT, on an MBR with its chain, and where one
// becomes the other.
func proveTableCuts(t *testing.T, j *judge) {
	words := func(lines ...string) (out [][]string) {
		for _, l := range lines {
			out = append(out, append(strings.Fields(l), "--commit"))
		}
		return out
	}
	chain := words("table new sdb --scheme mbr", "partition add sdb --size 30MiB --type extended", "partition add sdb --size 5MiB --size 6MiB")
	for _, c := range []struct {
		before        [][]string
		cut, old, new string
	}{
		{words("table new sdb", "partition add sdb --size 20MiB"), "partition add sdb --size 10MiB", "1 2048 40960", "1 2048 40960, 2 43008 20480"},
		{chain, "partition add sdb --size 7MiB", "1 2048 2, 5 4096 10240, 6 16384 12288", "1 2048 2, 5 4096 10240, 6 16384 12288, 7 30720 14336"},
		{chain, "partition remove sdb5", "1 2048 2, 5 4096 10240, 6 16384 12288", "1 2048 2, 5 16384 12288"},
		{chain, "resize sdb6 9MiB", "1 2048 2, 5 4096 10240, 6 16384 12288", "1 2048 2, 5 4096 10240, 6 16384 18432"},
		{chain, "table convert sdb --scheme gpt", "1 2048 2, 5 4096 10240, 6 16384 12288", "5 4096 10240, 6 16384 12288"},
		{words("table new sdb", "partition add sdb --size 20MiB"), "table new sdb --scheme mbr", "1 2048 40960", ""},
	} {
		images := cutImages(t, j, c.before, words(c.cut)[0])
		seen := map[string]int{}
		for _, a := range j.together(t, images) {
			seen[strings.Join(a.Partitions, ", ")]++
		}
		if seen[c.old] == 0 || seen[c.new] == 0 || seen[c.old]+seen[c.new] != len(images) {
			t.Errorf("%s: the kernel saw %v; want only %q and %q", c.cut, seen, c.old, c.new)
		}
		fmt.Printf("kernel proof: %d cuts of %s: %d times the old table, %d times the new one; of %v\n", len(images), c.cut, seen[c.old], seen[c.new], different(t, images))
	}
}
