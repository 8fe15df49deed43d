package cli

import (
	"encoding/binary"
	"strings"
	"testing"

	"fundus/core/block"
	"fundus/core/block/file"
)

// hybrid writes an optical volume whose first sector is an MBR with a partition from sector
// 0 on and one for firmware inside, as images for sticks have them.
func hybrid(t *testing.T, path string) {
	t.Helper()
	if err := file.Create(path, 4<<20); err != nil {
		t.Fatal(err)
	}
	if err := putSample(path, "0", "iso9660"); err != nil {
		t.Fatal(err)
	}
	d, err := file.Open(path, true, block.Geometry{Logical: 512})
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	b := make([]byte, 512)
	record := func(i int, boot, kind byte, first, count uint32) {
		r := b[446+16*i:]
		r[0], r[4] = boot, kind
		binary.LittleEndian.PutUint32(r[8:], first)
		binary.LittleEndian.PutUint32(r[12:], count)
	}
	record(0, 0x80, 0x17, 0, 8192) // the whole of it
	record(1, 0, 0xEF, 64, 1024)   // begins in the middle of the volume
	binary.LittleEndian.PutUint32(b[440:], 0x5eed5eed)
	b[510], b[511] = 0x55, 0xAA
	if _, err := d.WriteAt(b, 0); err != nil {
		t.Fatal(err)
	}
}

// TestHybridImages: the volume of an image for a stick is seen beside its table, named when
// a partition of it is to be destroyed, and is no contradiction.
func TestHybridImages(t *testing.T) {
	w := newWorld(t)
	hybrid(t, "stick.img")
	run := func(line string) string { return strings.Join(strings.Fields(w.fundus(line)), " ") }
	if got := run("survey stick.img"); !strings.Contains(got, "stick.img 4.0 MiB iso9660 HERBARIUM") || !strings.Contains(got, "part of iso9660") {
		t.Errorf("survey: %s", got)
	}
	if got := run("verify stick.img --severity=note"); strings.Contains(got, "twofold") || strings.Contains(got, "duplicate") {
		t.Errorf("verify: %s", got)
	}
	if got := run("format stick.img:2 ext4 --commit"); !strings.Contains(got, "part of iso9660 HERBARIUM") || !strings.Contains(got, "--lose=HERBARIUM") {
		t.Errorf("format: %s", got)
	}
	if got := run("survey stick.img --unused"); strings.Contains(got, "stick.img:1") {
		t.Errorf("unused: %s", got)
	}
}
