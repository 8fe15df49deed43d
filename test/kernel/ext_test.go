//go:build proof

package kernel

import (
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/block/file"
	"fundus/core/fs/ext"
	"fundus/test/amount"
)

// extCase is a file system of the family that is made and put before the kernel.
type extCase struct {
	kind     string
	size     int64
	settings string // as they are typed
	how      string // what the guest does with it
	random   bool   // it may be refused: not all settings fit each other
}

func (c extCase) String() string {
	return fmt.Sprintf("%s of %d bytes, %s (%s)", c.kind, c.size, c.settings, c.how)
}

// extCases lists what is made: the corner cases first.
func extCases() (list []extCase) {
	const k, m, g, t = 1 << 10, 1 << 20, 1 << 30, 1 << 40
	add := func(kind string, size int64, settings, how string) {
		list = append(list, extCase{kind: kind, size: size, settings: settings, how: how})
	}
	add("ext2", 65*k, "inode-count=64 growth-room=1 reserved=0%", "")
	add("ext2", 8*m, "", "not=ext3 fill as=ext4 grow=65536")
	add("ext2", 300*m, "block=4KiB inode-size=128", "copies fill as=ext4 grow=131072")
	add("ext3", 64*m, "block=1KiB journal=20MiB", "fill grow=131072")
	add("ext3", 700*m, "journal=200MiB inode-size=128", "copies as=ext4 grow=262144")
	add("ext4", 300*m, "checksums=no flex=no wide-numbers=no", "copies fill grow=500000")
	add("ext4", 300*m, "checksums=no journal=no", "fill grow=500000")
	add("ext4", 300*m, "block=4KiB inode-size=128 checksum-seed=yes large-directories=yes", "copies fill grow=131072")
	add("ext4", 300*m, "block=4KiB tables=full flex=2 inode-size=4KiB inode-count=777", "fill grow=131072")
	add("ext4", 900*m, "block=1KiB flex=no journal=200MiB", "copies grow=1040000")
	add("ext4", 300*m, "growth-room=1 stripe-unit=64KiB stripe-width=192KiB on-error=read-only check-after-mounts=20 check-every=180d mount-defaults=nodelalloc,commit=7", "fill grow=307300")
	add("ext4", 64*m, "inode-every=1KiB root-user=70000 root-group=80000 root-mode=2775 reserved=1MiB reserved-user=7 reserved-group=9", "fill")
	add("ext4", 300*m, "for=3.4", "fill")
	add("ext4", 300*m, "block=1KiB checksums=no", "sums fill grow=500000")
	for _, block := range []string{"1KiB", "2KiB", "4KiB"} {
		bs := map[string]int64{"1KiB": k, "2KiB": 2 * k, "4KiB": 4 * k}[block]
		group, with := 8*bs*bs, "block="+block
		for _, kind := range []string{"ext2", "ext3"} {
			for _, inode := range []string{"128", "256", block} {
				add(kind, 70*m, with+" inode-every=16KiB inode-size="+inode, "copies fill as=ext4")
			}
			for _, d := range []int64{-1, 0, 1, 40, 500} { // around three groups
				add(kind, 3*group+d*bs+map[bool]int64{true: bs}[bs == k], with, "as=ext4 copies")
			}
		}
		for _, flex := range []string{"no", "2", "16"} {
			for _, rest := range []string{"checksums=yes wide-numbers=yes", "checksums=yes wide-numbers=no", "checksums=no wide-numbers=yes", "checksums=no wide-numbers=no"} {
				for _, inode := range []string{"128", "256", "1KiB"} {
					for _, journal := range []string{"", " journal=no"} {
						add("ext4", 70*m+7*group/2, with+" flex="+flex+" "+rest+" inode-size="+inode+journal, map[bool]string{true: "copies", false: "fill"}[journal == ""])
					}
				}
			}
			for _, d := range []int64{-1, 0, 1, 60, 700} { // around four groups, which are two flexible ones of two
				add("ext4", 4*group+d*bs+map[bool]int64{true: bs}[bs == k], with+" flex="+flex, "copies grow="+fmt.Sprint(9*group/2/bs))
			}
		}
		add("ext4", 20*g, with, "copies")
		add("ext3", 20*g, with, "copies as=ext4")
	}
	for _, d := range []int64{-4096, 0, 4096} { // around 2^32 blocks
		add("ext4", 16*t+d, "", "")
	}
	add("ext4", 16*t-4096, "wide-numbers=no", "")
	return list
}

// randomExt draws file systems of any size and with any settings; each is used until its inodes
// are used up, so that there are not too many of them.
func randomExt(n int) (list []extCase) {
	for i := range n {
		rng := amount.Rand(1900 + i)
		one := func(words ...string) string { return words[rng.IntN(len(words))] }
		some := func(of int, words ...string) string {
			if rng.IntN(of) > 0 {
				return ""
			}
			return " " + one(words...)
		}
		c := extCase{kind: one("ext2", "ext3", "ext4", "ext4"), size: int64(200<<10) << rng.IntN(11), how: "fill", random: true}
		c.size += rng.Int64N(c.size)
		c.settings = "block=" + one("1KiB", "2KiB", "4KiB") + some(2, "inode-size=128B", "inode-size=256B", "inode-size=512B", "inode-size=1KiB") + some(4, "reserved=0%", "reserved=10%", "reserved=100KiB") + some(4, "growth-room=1", "growth-room=3")
		if c.kind != "ext2" {
			c.settings += some(3, "journal=1MiB", "journal=4MiB", "journal=7MiB", "journal=no")
		}
		if c.kind == "ext4" {
			c.settings += some(2, "checksums=no", "checksum-seed=yes") + some(2, "flex=no", "flex=2", "flex=4", "flex=64") + some(3, "wide-numbers=no", "large-directories=yes") + some(4, "tables=full")
		}
		switch {
		case rng.IntN(3) == 0:
			c.settings += fmt.Sprintf(" inode-count=%d", 12+rng.IntN(1<<(4+rng.IntN(9))))
		case c.size > 32<<20 || rng.IntN(2) == 0:
			c.settings += fmt.Sprintf(" inode-every=%dKiB", 32<<rng.IntN(10))
		}
		if rng.IntN(3) == 0 {
			c.how = "copies fill"
		}
		list = append(list, c)
	}
	return list
}

// readerSees: a reader that finds nothing anywhere would prove nothing.
func readerSees(t *testing.T) {
	t.Helper()
	path, err := imageOf(t, "ext4", 64<<20, "block=4KiB", false)
	if err != nil {
		t.Fatal(err)
	}
	if wrong := countedExt(path); len(wrong) > 0 {
		t.Errorf("a new one: %v", wrong)
	}
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	d := make([]byte, 64) // the first descriptor
	_, err = f.ReadAt(d, 4096)
	place := func(at int) int64 { return 4096 * int64(binary.LittleEndian.Uint32(d[at:])) }
	for what, at := range map[string]int64{"block bitmap": place(0) + 100, "inode bitmap": place(4) + 100, "free blocks of a group": 4096 + 12, "directories of a group": 4096 + 16, "free inodes": 1024 + 16, "sectors of the root": place(8) + 256 + 28, "block of the root": place(8) + 256 + 40 + 12 + 8} {
		b := make([]byte, 1)
		if _, errRead := f.ReadAt(b, at); err != nil || errRead != nil {
			t.Fatal(err, errRead)
		}
		_, err = f.WriteAt([]byte{b[0] ^ 4}, at)
		if wrong := countedExt(path); len(wrong) == 0 {
			t.Errorf("%s: a planted fault is not seen", what)
		}
		_, errBack := f.WriteAt(b, at)
		err = errors.Join(err, errBack)
	}
	if err != nil {
		t.Error(err)
	}
}

// proveExt: what Fundus makes is mounted, as its type and as ext4, by each copy of its
// superblock, used, filled and grown by the kernel, which finds nothing and counts what was
// planned.
func proveExt(t *testing.T, j *judge) {
	all := slices.Concat(amount.Sample(extCases(), 14, 13, 19), randomExt(amount.Of(10, 200)))
	e := &extProof{j: j}
	const batch = 14
	for first := 0; first < len(all); first += batch {
		list := all[first:min(first+batch, len(all))]
		t.Run(fmt.Sprintf("%d to %d", first+1, first+len(list)), func(t *testing.T) { e.batch(t, list) })
	}
	readerSees(t)
	if e.refused > e.made {
		t.Errorf("%d refused, %d made", e.refused, e.made)
	}
	fmt.Printf("kernel proof: %d of ext2, ext3 and ext4 are what was planned, and each block and inode is counted where it lies; %d read by the boot loader's reader; %d drawn ones were refused: %v\n", e.made, e.read, e.refused, !t.Failed())
}

// extProof counts what became of all batches.
type extProof struct {
	j                   *judge
	made, refused, read int
}

// batch puts some of them before one guest, each on a disk of its own.
func (e *extProof) batch(t *testing.T, list []extCase) {
	t.Helper()
	var images, commands, want []string
	var which []extCase
	for _, c := range list {
		path, err := imageOf(t, c.kind, c.size, c.settings, false)
		if err != nil && c.random {
			e.refused++
			continue
		}
		if err != nil {
			t.Errorf("%v: %v", c, err)
			continue
		}
		if strings.HasPrefix(c.how, "sums") {
			olderSums(t, path)
		}
		which = append(which, c)
		images, commands = append(images, path), append(commands, fmt.Sprintf("ext /dev/ubd%c %s %s", 'a'+len(images), c.kind, c.how))
		want = append(want, planned(t, path))
		e.made++
	}
	t.Cleanup(func() {
		for i, c := range which {
			if t.Failed() {
				t.Logf("ubd%c: %v", 'a'+i, c)
			}
		}
	})
	if len(images) == 0 { // all of them were refused
		return
	}
	a := e.j.run(t, start{images: images, commands: commands})[len(images)-1]
	for i, said := range a.Said {
		if !strings.HasPrefix(said, want[i]) || !strings.HasSuffix(said, "left in order; wrong: ") {
			t.Errorf("%v: %q, want %q", which[i], said, want[i])
		}
		for _, wrong := range countedExt(images[i]) {
			t.Errorf("%v: counted: %s", which[i], wrong)
		}
		if e.read < 10 && !which[i].random && which[i].size > 1<<20 && bootLoaderReads(t, images[i]) {
			e.read++
		}
	}
	for _, line := range a.Kernel {
		if level, _, _ := strings.Cut(line, ","); strings.Contains(line, "EXT") && level < "5" && !strings.Contains(line, "Can't find") && !expectedOfExt(line) {
			t.Errorf("the kernel says: %s", line)
		}
	}
}

// olderSums gives the descriptors the checksums that were before those of all metadata, by a
// change of the UUID.
func olderSums(t *testing.T, path string) {
	t.Helper()
	dev, err := file.Open(path, true, block.DefaultGeometry)
	if err != nil {
		t.Fatal(err)
	}
	defer dev.Close()
	const features, checksums = 1024 + 0x64, 0x10 // read-only compatible ones
	b, err := block.ReadSized(dev, features, 4, 4)
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(block.WriteBytes(dev, []byte{b[0] | checksums, b[1], b[2], b[3]}, features), ext.SetUUID(dev, uuid.New()), dev.Sync()); err != nil {
		t.Fatal(err)
	}
}

// expectedOfExt are warnings about what was asked for.
func expectedOfExt(line string) bool {
	return strings.Contains(line, "maximal mount count reached") || strings.Contains(line, "supports timestamps until 2038") || strings.Contains(line, "checktime reached") || strings.Contains(line, "callbacks suppressed") || strings.Contains(line, "couldn't mount as ext3")
}

// planned is what the kernel is to count in a file system that was just made.
func planned(t *testing.T, path string) string {
	t.Helper()
	dev, err := file.Open(path, false, block.DefaultGeometry)
	if err != nil {
		t.Fatal(err)
	}
	defer dev.Close()
	s, err := ext.Read(dev)
	if err != nil {
		t.Fatal(err)
	}
	return fmt.Sprintf("%d free, %d inodes, %d of them free, %d bytes, ", s.Free, s.Inodes, s.FreeInodes, s.BlockSize)
}
