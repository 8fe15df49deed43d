//go:build proof

package kernel

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
)

// geometry is a size at which the layout of ext4 changes.
type geometry struct {
	size, block int64
	large       bool // the kernel is not asked to initialise what is unused
}

// geometries are the thresholds: the smallest, a group less and more than one
// block, with small and with usual blocks, and beyond 32 bits of blocks.
func geometries() []geometry {
	const group1, group4 = 8192 * 1024, 32768 * 4096 // bytes of a group
	return []geometry{
		{256 << 10, 1024, false}, {group1, 1024, false}, {group1 + 1024, 1024, false}, {group1 + 2048, 1024, false}, {3*group1 + 512<<10, 1024, false},
		{1 << 20, 4096, false}, {group4 - 4096, 4096, false}, {group4, 4096, false}, {group4 + 4096, 4096, false}, {2*group4 + 16<<20, 4096, false}, {17*group4 + 4096, 4096, false},
	}
}

// proveGeometries: at every threshold the kernel mounts, writes, fills and
// empties, and the free counts are those of before.
func proveGeometries(t *testing.T, j *judge) {
	var images, expected []string
	for i, g := range geometries() {
		image := blank(t, g.size)
		j.format(t, image, fmt.Sprint(g.block, "B"))
		images, expected = append(images, image), append(expected, fmt.Sprintf("ubd%c mounted", 'a'+i))
	}
	for i, a := range j.ask(t, true, images...) {
		clean(t, a, nil, expected[i:i+1])
		if t.Failed() {
			t.Fatalf("at %d bytes in blocks of %d", geometries()[i].size, geometries()[i].block)
		}
	}
	a := j.boot(t, true, []string{"initialised ubda"}, images[len(images)-1])[0]
	clean(t, a, nil, []string{"ubda mounted"})
	if a.Said[0] != "initialised" {
		t.Error(a.Said[0])
	}
}

// proveLargeSectors: on a disk of 4096-byte sectors the same road leads to a
// file system that the kernel uses.
func proveLargeSectors(t *testing.T, j *judge) {
	a := j.run(t, start{modules: []string{"loop"}, images: []string{blank(t, 200<<20)}, commands: []string{
		"carry ubda 4096", "table new loop0 --commit", "partition add loop0 --size 150MiB --commit", "format loop0p1 ext4 --commit", "fstab add loop0p1 /srv --commit", "mount /srv", "writer /srv", "pause", "rest", "unmount /srv",
		"format loop0p1 ext4 block=1024B --commit", "look loop0",
	}})[0]
	says(t, a.Said, [][]string{{"loop0"}, {fine}, {fine}, {fine}, {fine}, {fine}, {}, {}, {"wrote "}, {fine}, {"1024", refused}, {`"1 2048 307200"`, "loop0p1 mounted"}})
}

// proveHuge: 100 GiB and 17 TiB, sparse. A file on ext4 ends at 16 TiB: that one
// lies in memory.
func proveHuge(t *testing.T, j *judge) {
	for _, size := range []int64{100 << 30, 17 << 40} {
		f, err := os.CreateTemp(memoryDir(), "fundus-huge-*.img")
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { os.Remove(f.Name()) })
		if err := f.Truncate(size); err != nil {
			t.Fatal(err)
		}
		f.Close()
		j.format(t, f.Name(), "4096B")
		a := j.run(t, start{use: true, options: "noinit_itable", images: []string{f.Name()}})[0]
		a.Log = withoutUnsupported(a.Log)
		clean(t, a, nil, []string{"ubda mounted"})
	}
}

// format has the built program format an image on the host.
func (j *judge) format(t *testing.T, image, block string) {
	t.Helper()
	b := &bench{t: t, j: j, dir: ""}
	b.must("format", image, "ext4", "block="+block, "--commit", "--state", filepath.Join(t.TempDir(), "state"))
}
