//go:build proof

package kernel

import (
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"

	"fundus/core/block"
	"fundus/core/block/file"
	"fundus/core/fs/ext"
	"fundus/core/fs/xfs"
	"fundus/core/quantity"
	"fundus/test/amount"
)

// growth is a file system that is made, used, and then made larger while it is not mounted.
type growth struct {
	kind, settings string
	from, to       float64 // in groups
	before         string  // what the guest does with it first
	after          string  // and at last
}

// growths lists what is crossed: the end of the last group, a group, a block of descriptors,
// all that are kept for them, a flexible group, groups with a copy of the superblock.
func growths() (list []growth) {
	add := func(kind, settings string, from, to float64, before, after string) {
		list = append(list, growth{kind, settings, from, to, before, after})
	}
	add("ext4", "block=1KiB growth-room=2", 15, 60, "", "copies fill grow=600000")
	add("ext4", "block=1KiB growth-room=20", 0.7, 50, "", "copies fill grow=500000")
	add("ext4", "block=1KiB growth-room=1", 3.4, 20, "", "copies fill grow=300000")
	add("ext4", "block=1KiB growth-room=2", 15, 90, "grow=400000", "copies fill grow=900000")
	add("ext2", "block=1KiB", 3.3, 3.8, "", "copies fill as=ext4 grow=100000")
	add("ext3", "block=1KiB", 10, 55.5, "", "copies fill grow=600000")
	add("ext4", "block=4KiB", 1.2, 5.3, "", "copies fill grow=250000")
	add("ext4", "block=2KiB checksums=no flex=no wide-numbers=no", 3.3, 26.5, "", "copies fill grow=500000")
	add("ext4", "block=1KiB checksums=no", 18, 51, "sums", "copies fill grow=500000")
	for _, block := range []string{"1KiB", "2KiB", "4KiB"} {
		for _, kind := range []string{"ext2", "ext3", "ext4", "ext4 checksums=no", "ext4 wide-numbers=no", "ext4 flex=2", "ext4 flex=no", "ext4 growth-room=1", "ext4 checksums=no wide-numbers=no flex=4"} {
			name, rest, _ := strings.Cut(kind, " ")
			most := map[string]float64{"1KiB": 120, "2KiB": 31, "4KiB": 7.9}[block]
			for _, move := range [][2]float64{{1.1, 1.9}, {2.3, 3.6}, {1.4, most / 2}, {most / 3, most}} {
				add(name, strings.TrimSpace("block="+block+" "+rest), move[0], move[1], "", "copies fill as=ext4 grow="+fmt.Sprint(map[string]int{"1KiB": 1040000, "2KiB": 520000, "4KiB": 260000}[block]))
			}
		}
	}
	return list
}

// blockOf is the size of a block in settings, and how many bytes a group has then.
func blockOf(settings string) (block, group float64) {
	for bs, word := range map[float64]string{1024: "1KiB", 2048: "2KiB", 4096: "4KiB"} {
		if strings.Contains(settings, "block="+word) {
			block = bs
		}
	}
	return block, 8 * block * block
}

// proveGrown: what Fundus made larger while it was not mounted has its tree, is mounted by each
// copy of its superblock, counted, filled, and made larger once more by the kernel, which finds
// nothing wrong.
func proveGrown(t *testing.T, j *judge) {
	all := amount.Sample(growths(), 9, 3, 18)
	done := 0
	for len(all) > 0 {
		list := all[:min(len(all), 11)]
		all = all[len(list):]
		var images, first, second, want []string
		for i, g := range list {
			_, group := blockOf(g.settings)
			path, err := imageOf(t, g.kind, int64(g.from*group), g.settings, false)
			if err != nil {
				t.Fatalf("%+v: %v", g, err)
			}
			how := g.before
			if how == "sums" {
				olderSums(t, path)
				how = ""
			}
			images = append(images, path)
			first = append(first, fmt.Sprintf("ext /dev/ubd%c %s %s", 'a'+i, g.kind, how))
			second = append(second, fmt.Sprintf("ext /dev/ubd%c %s had %s", 'a'+i, g.kind, g.after))
		}
		for i, said := range j.run(t, start{images: images, commands: first})[len(images)-1].Said {
			if !strings.HasSuffix(said, "left in order; wrong: ") {
				t.Errorf("%+v, before: %s", list[i], said)
			}
		}
		for i, g := range list {
			_, group := blockOf(g.settings)
			growImage(t, images[i], quantity.Bytes(g.to*group))
			want = append(want, planned(t, images[i]))
		}
		a := j.run(t, start{images: images, commands: second})[len(images)-1]
		for i, said := range a.Said {
			if done++; !strings.HasPrefix(said, want[i]) || !strings.HasSuffix(said, "left in order; wrong: ") {
				t.Errorf("%+v: %q, want %q", list[i], said, want[i])
			}
			bootLoaderReads(t, images[i])
		}
		for _, line := range a.Kernel {
			if level, _, _ := strings.Cut(line, ","); strings.Contains(line, "EXT") && level < "5" && !expectedOfExt(line) {
				t.Errorf("the kernel says: %s", line)
			}
		}
	}
	fmt.Printf("kernel proof: %d file systems were made larger, used, filled and made larger by the kernel: %v\n", done, !t.Failed())
}

func growImage(t *testing.T, path string, to quantity.Bytes) *ext.Superblock {
	t.Helper()
	dev, err := file.Open(path, true, block.DefaultGeometry)
	if err != nil {
		t.Fatal(err)
	}
	defer dev.Close()
	s, err := ext.Read(dev)
	if err != nil {
		t.Fatal(err)
	}
	foretold, err := s.Reach(to)
	if err != nil {
		t.Fatal(err)
	}
	got, err := ext.Grow(t.Context(), dev, to, nil)
	if err != nil {
		t.Fatal(err)
	}
	if s, err = ext.Read(dev); err != nil || got != foretold || s.Size() != got {
		t.Fatalf("foretold %d bytes, grown to %d, it says %v: %v", foretold, got, s, err)
	}
	return s
}

// proveForetold: of sizes at random, what is foretold, what Fundus makes of a file system that
// is not mounted, and what the kernel makes of one that is, have the same blocks, inodes and
// groups.
func proveForetold(t *testing.T, j *judge) {
	r := rand.New(rand.NewPCG(amount.Seed(), 21))
	n := amount.Of(12, 200)
	kinds := []string{"ext2 block=1KiB", "ext3 block=1KiB", "ext4 block=1KiB", "ext4 block=1KiB growth-room=2", "ext4 block=1KiB growth-room=1", "ext4 block=2KiB", "ext4 block=4KiB", "ext3 block=2KiB", "ext2 block=4KiB", "ext4 block=1KiB flex=4 inode-every=2KiB", "ext4 block=2KiB checksums=no wide-numbers=no"}
	for done := 0; done < n; {
		var images, commands, want []string
		for i := range min(12, n-done) {
			kind, settings, _ := strings.Cut(kinds[(done+i)%len(kinds)], " ")
			bs, group := blockOf(settings)
			from := (1.05 + r.Float64()*float64(3)) * group
			to := quantity.Bytes(from + r.Float64()*r.Float64()*min(float64(900<<20)-from, 100*group))
			path, err := imageOf(t, kind, int64(from), settings, false)
			if err != nil {
				t.Fatalf("%s %s, %f bytes: %v", kind, settings, from, err)
			}
			twin, err := imageOf(t, kind, int64(from), settings, false)
			if err != nil {
				t.Fatal(err)
			}
			blocks := to / quantity.Bytes(bs)
			says := "refused"
			if s := reached(t, twin, blocks*quantity.Bytes(bs)); s != nil {
				says = fmt.Sprintf("%d blocks, %d inodes, %d groups; wrong: ", s.Blocks, s.Inodes, s.Groups())
			}
			images, want = append(images, path), append(want, says)
			commands = append(commands, fmt.Sprintf("online /dev/ubd%c ext4 %d", 'a'+i, blocks))
		}
		for i, said := range j.run(t, start{images: images, commands: commands})[len(images)-1].Said {
			if done++; said != want[i] && !(want[i] == "refused" && strings.Contains(said, "invalid argument")) {
				t.Errorf("%s: %s, want %s", commands[i], said, want[i])
			}
		}
	}
	fmt.Printf("kernel proof: %d growths (seed %d) are in blocks, inodes and groups what was foretold, mounted or not: %v\n", n, amount.Seed(), !t.Failed())
}

// reached grows the image where that is possible.
func reached(t *testing.T, path string, to quantity.Bytes) *ext.Superblock {
	t.Helper()
	dev, err := file.Open(path, false, block.DefaultGeometry)
	if err != nil {
		t.Fatal(err)
	}
	s, err := ext.Read(dev)
	if err != nil {
		t.Fatal(err)
	}
	_, err = s.Reach(to)
	dev.Close()
	if err != nil {
		return nil
	}
	return growImage(t, path, to)
}

// proveForetoldXFS: the same of XFS, which the kernel alone makes larger: of sizes at random, and
// of such that leave a last group too small.
func proveForetoldXFS(t *testing.T, j *judge) {
	r := rand.New(rand.NewPCG(amount.Seed(), 22))
	n := amount.Of(12, 200)
	kinds := []string{"block=4KiB", "block=1KiB", "block=2KiB group-count=3", "block=4KiB group-count=2 reverse-map=no", "block=2KiB", "block=4KiB group-count=5 shared-blocks=no"}
	for done := 0; done < n; {
		var images, commands, want []string
		for i := range min(12, n-done) {
			settings := kinds[(done+i)%len(kinds)]
			from := int64(300+r.IntN(200)) << 20
			path, err := imageOf(t, "xfs", from, settings, false)
			if err != nil {
				t.Fatalf("%s, %d bytes: %v", settings, from, err)
			}
			dev, err := file.Open(path, false, block.DefaultGeometry)
			if err != nil {
				t.Fatal(err)
			}
			v, err := block.ReadSized(dev, 0, 512, 512)
			if err != nil {
				t.Fatal(err)
			}
			bs, had, group := quantity.Bytes(binary.BigEndian.Uint32(v[4:])), int64(binary.BigEndian.Uint64(v[8:])), int64(binary.BigEndian.Uint32(v[84:]))
			blocks := had + r.Int64N(int64(1<<30)/int64(bs)-had)
			switch i % 4 {
			case 1: // around the least that a last group has
				blocks = had/group*group + (1+r.Int64N(3))*group + 60 + r.Int64N(9)
			case 2: // by little
				blocks = had + r.Int64N(70)
			}
			blocks = min(blocks, int64(1<<30)/int64(bs))
			says := fmt.Sprintf("%d blocks, %d groups", had, (had+group-1)/group)
			if to, err := xfs.Reach(dev, quantity.Bytes(blocks)*bs); err == nil {
				count := int64(to / bs)
				says = fmt.Sprintf("%d blocks, %d groups; wrong: ", count, (count+group-1)/group)
			}
			dev.Close()
			images, want = append(images, path), append(want, says)
			commands = append(commands, fmt.Sprintf("onlinexfs /dev/ubd%c %d", 'a'+i, blocks))
		}
		for i, said := range j.run(t, start{modules: []string{"xfs"}, images: images, commands: commands})[len(images)-1].Said {
			if done++; !strings.HasPrefix(said, want[i]) || !strings.HasSuffix(said, "wrong: ") {
				t.Errorf("%s: %s, want %s", commands[i], said, want[i])
			}
		}
	}
	fmt.Printf("kernel proof: %d growths of XFS (seed %d) are what was foretold: %v\n", n, amount.Seed(), !t.Failed())
}

// proveLive: on disks that became larger while the machine runs, one command makes partition
// and file system larger beside a mounted neighbour, while it is mounted and written to: place
// and identifiers stay, the size is the one that was foretold, and the kernel finds nothing
// wrong. What the kernel would refuse is foreseen.
func proveLive(t *testing.T, j *judge) {
	var commands []string
	var want [][]string
	do := func(command string, says ...string) { commands, want = append(commands, command), append(want, says) }
	type grown struct{ draft, after int }
	var all []grown
	kinds := []string{"ext4 block=1KiB growth-room=2", "xfs", "ext4 block=4KiB", "ext3"}
	if !amount.Soak() {
		kinds = kinds[:2]
	}
	for i, kind := range kinds {
		disk := fmt.Sprintf("loop%d", i)
		do(fmt.Sprintf("image /card%d.img 734003200", i), "image")
		do(fmt.Sprintf("carry ../card%d.img 512 scan", i), disk)
		do("table new "+disk+" --commit", fine)
		do("partition add "+disk+" --size 20MiB --size 400MiB --commit", fine)
		do(fmt.Sprintf("format %sp1 ext2 --label beside%d --commit", disk, i), fine)
		do(fmt.Sprintf("format %sp2 %s --label ferns%d --commit", disk, kind, i), fine)
		do("mount "+disk+"p1 /srv/beside --make", fine)
		do("mount "+disk+"p2 /srv/ferns --make", fine)
		do("partuuids")
		before := len(commands) - 1
		do("writer /srv/ferns")
		do(fmt.Sprintf("lengthen /card%d.img 1468006400", i), "longer")
		do("rescan "+disk, fine)
		do("resize "+disk+"p2 max --draft", "has grown", "by the kernel, while it is mounted", fine)
		do("resize /srv/ferns max --commit", "done: resize", fine)
		all = append(all, grown{len(commands) - 1, len(commands) + 5})
		do("rest", "wrote ")
		do("verify "+disk, fine)
		do("partuuids")
		want[len(want)-1] = []string{"same as", fmt.Sprint(before)}
		do("unmount /srv/ferns", fine)
		do("unmount /srv/beside", fine)
		do("inspect "+disk+"p2", fine)
		if name := strings.Fields(kind)[0]; name == "xfs" {
			do("xfs /dev/"+disk+"p2 fill", "wrong: ")
		} else {
			do("ext /dev/"+disk+"p2 "+name+" copies fill", "left in order; wrong: ")
		}
	}
	do("format loop0p2 ext4 block=1KiB journal=1MiB --label tight --lose=ferns0 --commit", fine)
	do("mount loop0p2 /srv/ferns", fine)
	do("lengthen /card0.img 2097152000", "longer")
	do("rescan loop0", fine)
	do("resize loop0p2 max --draft", "keeps its size", "in one transaction", "not mounted, it can", "exit status 1]")
	do("mount /srv/ferns --remount --options=ro", fine)
	do("resize loop0p2 max --draft", "read-only", "exit status 1]")
	do("unmount /srv/ferns", fine)
	do("resize loop0p2 max --commit", "done: resize", fine)
	do("ext /dev/loop0p2 ext4 copies fill", "left in order; wrong: ")
	do("image /card7.img 209715200", "image")
	do("carry ../card7.img 512 scan", "loop")
	disk := fmt.Sprintf("loop%d", len(kinds))
	do("table new "+disk+" --commit", fine)
	do("partition add "+disk+" --size 64MiB --commit", fine)
	do("format "+disk+"p1 swap --label rest --commit", fine)
	do("swap on "+disk+"p1 --options=pri=5", fine)
	do("resize "+disk+"p1 128MiB --commit", "done: resize", fine)
	do("file /proc/swaps", disk+"p1", "131068", "5")
	do("resize "+disk+"p1 32MiB --commit", "done: resize", fine)
	do("file /proc/swaps", disk+"p1", "32764", "5")
	do("undo --commit", fine)
	do("file /proc/swaps", disk+"p1", "131068", "5")
	do("partition remove "+disk+"p1 --lose=rest --commit", "done: remove", fine)
	do("file /proc/swaps", "Filename")
	do("undo --commit", fine)
	do("file /proc/swaps", disk+"p1", "131068", "5")
	do("swap off "+disk+"p1", fine)
	// Where the kernel has another partition in that room still, which is mounted, nothing is
	// given away; not mounted it waits for a boot, and the file system is not touched.
	busy := fmt.Sprintf("loop%d", len(kinds)+1)
	do("image /card8.img 209715200", "image")
	do("carry ../card8.img 512 scan", busy)
	do("table new "+busy+" --scheme mbr --commit", fine)
	do("partition add "+busy+" --size 40MiB --size 40MiB --commit", fine)
	do("format "+busy+"p1 ext4 --label moss --commit", fine)
	do("format "+busy+"p2 ext2 --label beside --commit", fine)
	do("mount "+busy+"p1 /srv/ferns", fine)
	do("mount "+busy+"p2 /srv/beside", fine)
	do("zero /dev/"+busy+" 462 16", "zero") // by another hand, the second entry goes
	do("resize /srv/ferns max --commit", "kernel has it still", "/srv/beside", "nothing was changed", "exit status 1]")
	do("unmount /srv/beside", fine)
	do("resize /srv/ferns max --commit", "there is ext2 beside", "41943040 bytes still", "exit status 6]")
	do("inspect "+busy+"p1", "40960 blocks", fine)
	do("unmount /srv/ferns", fine)
	do("ext /dev/"+busy+"p1 ext4 copies", "left in order; wrong: ")
	do("rescan "+busy, fine)
	do("resize "+busy+"p1 max --commit", "done: resize", fine)
	do("ext /dev/"+busy+"p1 ext4 copies fill", "left in order; wrong: ")
	// Where errors are recorded the kernel makes nothing larger, and neither does Fundus.
	do("lengthen /card8.img 314572800", "longer")
	do("mount "+busy+"p1 /srv/ferns", fine)
	do("put /sys/fs/ext4/"+busy+"p1/trigger_fs_error planted", "put")
	do("rescan "+busy, fine)
	do("resize /srv/ferns max --draft", "keeps its size of 199.0", "errors are recorded", "exit status 1]")
	do("resize /srv/ferns 250MiB --draft", "errors are recorded", "nothing was changed", "exit status 1]")
	do("unmount /srv/ferns", fine)
	do("resize "+busy+"p1 max --draft", "keeps its size of 199.0", "errors are recorded", "exit status 1]")
	a := j.run(t, start{modules: []string{"loop", "xfs"}, boot: []string{"null_blk.nr_devices=0"}, images: []string{blank(t, 8<<20)}, commands: commands})[0]
	for i := range want {
		if len(want[i]) == 2 && want[i][0] == "same as" {
			var before int
			_, _ = fmt.Sscan(want[i][1], &before)
			if want[i] = nil; len(a.Said) > i && a.Said[i] != a.Said[before] {
				t.Errorf("identifiers of partitions: %s, before %s", a.Said[i], a.Said[before])
			}
		}
	}
	says(t, a.Said, want)
	size := regexp.MustCompile(`(?s)(?:ext4|xfs|ext3) ferns\d +[\d.]+ .iB becomes.*?\((\d+)\s+bytes\)`)
	for _, g := range all {
		if g.after >= len(a.Said) {
			continue
		}
		m := size.FindStringSubmatch(a.Said[g.draft])
		if m == nil || !strings.Contains(strings.Join(strings.Fields(a.Said[g.after]), " "), "= "+m[1]+" bytes") {
			t.Errorf("foretold: %v; it is %s", m, a.Said[g.after])
		}
	}
	orphan := false
	for _, line := range a.Kernel {
		// A copy of the superblock that the kernel wrote while the writer cut a file short lists
		// that one as an orphan, which the guest reads there. A mount by the copy wants to clean
		// it up by descriptors that are copies too, whose checksums of bitmaps are of another time.
		switch {
		case strings.Contains(line, "a copy lists the orphan"):
			orphan = true
		case orphan && strings.Contains(line, "Corrupt inode bitmap"):
			continue
		case strings.Contains(line, "unmounting filesystem"):
			orphan = false
		}
		if regexp.MustCompile(`(?i)error|corrupt|aborted|can.t`).MatchString(line) && !strings.Contains(line, "Can't find") && !strings.Contains(line, "planted") {
			t.Errorf("the kernel says: %s", line)
		}
	}
	fmt.Printf("kernel proof: %d file systems grew while they were mounted and written to: %v\n", len(all), !t.Failed())
}
