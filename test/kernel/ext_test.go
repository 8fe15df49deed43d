//go:build proof

package kernel

import (
	"errors"
	"fmt"
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
}

// extCases lists what is made: the corner cases first.
func extCases() (list []extCase) {
	const k, m, g, t = 1 << 10, 1 << 20, 1 << 30, 1 << 40
	add := func(kind string, size int64, settings, how string) {
		list = append(list, extCase{kind, size, settings, how})
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

// proveExt: what Fundus makes is mounted, as its type and as ext4, by each copy of its
// superblock, used, filled and grown by the kernel, which finds nothing and counts what was
// planned.
func proveExt(t *testing.T, j *judge) {
	all := amount.Sample(extCases(), 14, 13, 19)
	made, read := 0, 0
	for len(all) > 0 {
		const batch = 14
		list := all[:min(batch, len(all))]
		all = all[len(list):]
		var images, commands, want []string
		var which []extCase
		for _, c := range list {
			path, err := imageOf(t, c.kind, c.size, c.settings, false)
			if err != nil {
				t.Errorf("%s of %d bytes, %s: %v", c.kind, c.size, c.settings, err)
				continue
			}
			if strings.HasPrefix(c.how, "sums") {
				olderSums(t, path)
			}
			which = append(which, c)
			images, commands = append(images, path), append(commands, fmt.Sprintf("ext /dev/ubd%c %s %s", 'a'+len(images), c.kind, c.how))
			want = append(want, planned(t, path))
			made++
		}
		a := j.run(t, start{images: images, commands: commands})[len(images)-1]
		for i, said := range a.Said {
			if !strings.HasPrefix(said, want[i]) || !strings.HasSuffix(said, "left in order; wrong: ") {
				t.Errorf("%s of %d bytes, %s (%s): %q, want %q", which[i].kind, which[i].size, which[i].settings, which[i].how, said, want[i])
			}
			if read < 10 && which[i].size > 1<<20 && bootLoaderReads(t, images[i]) {
				read++
			}
		}
		for _, line := range a.Kernel {
			if level, _, _ := strings.Cut(line, ","); strings.Contains(line, "EXT") && level < "5" && !strings.Contains(line, "Can't find") && !expectedOfExt(line) {
				t.Errorf("the kernel says: %s", line)
			}
		}
	}
	fmt.Printf("kernel proof: %d of ext2, ext3 and ext4 are what was planned, %d read by the boot loader's reader: %v\n", made, read, !t.Failed())
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
