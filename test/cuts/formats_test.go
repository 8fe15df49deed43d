package cuts

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fundus/core/block"
	"fundus/internal/deed"
	"fundus/internal/draft"
	"fundus/internal/task/boot"
	"fundus/internal/task/content"
	"fundus/internal/task/disk"
	"fundus/internal/task/past"
)

var update = flag.Bool("update", false, "write the deed of testdata/format3 anew")

const kept = "testdata/format" // and its number

// sectors is one line for each sector of the medium that is not zeros.
func sectors(t *testing.T, r *rig) string {
	t.Helper()
	var b strings.Builder
	for off := int64(0); off < diskSize; off += 512 {
		if start, end, hole, err := r.medium.Next(off); err == nil && hole {
			off = max(off, end-512) // up to the next sector
			_ = start
			continue
		}
		p, err := block.ReadSized(r.medium, off, 512, 512)
		if err != nil {
			t.Fatal(err)
		}
		if !block.IsZero(p) {
			fmt.Fprintf(&b, "%d %x\n", off, p)
		}
	}
	return b.String()
}

func digest(t *testing.T, r *rig) string {
	t.Helper()
	return fmt.Sprintf("%x\n", sha256.Sum256([]byte(sectors(t, r))))
}

// loaded is a rig whose medium holds the sectors of the file.
func loaded(t *testing.T, path string) *rig {
	t.Helper()
	r := newRig(t, 512, 512)
	f, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	z, err := gzip.NewReader(f)
	if err != nil {
		t.Fatal(err)
	}
	data, err := io.ReadAll(z)
	if err != nil {
		t.Fatal(err)
	}
	for line := range strings.Lines(string(data)) {
		var off int64
		var text string
		if _, err := fmt.Sscan(line, &off, &text); err != nil {
			t.Fatal(err)
		}
		p, err := hex.DecodeString(text)
		if err == nil {
			_, err = r.medium.WriteAt(p, off)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	return r
}

// TestFormatsAreRecovered: of each format of which this release carries deeds out, one that was cut
// short is kept in testdata, with the disk as it was then. It is listed and recovered in both
// directions; completed, it is taken back. It adds a partition, labels a file system, and adds a
// line to fstab.
func TestFormatsAreRecovered(t *testing.T) {
	if *update {
		keep(t)
	}
	for format := 2; format <= draft.Format; format++ {
		for _, way := range []deed.Direction{deed.Back, deed.Forward} {
			t.Run(fmt.Sprintf("format %d, %s", format, way), func(t *testing.T) { recovered(t, format, way) })
		}
	}
}

func recovered(t *testing.T, format int, way deed.Direction) {
	dir := kept + fmt.Sprint(format)
	r := loaded(t, filepath.Join(dir, "medium.gz"))
	r.files = true
	store := storeIn(t)
	if err := os.CopyFS(filepath.Join(store.Dir, "deeds"), os.DirFS(filepath.Join(dir, "deeds"))); err != nil {
		t.Fatal(err)
	}
	list, err := store.Unfinished()
	if err != nil || len(list) != 1 || list[0].Format != format || list[0].Problem != nil {
		t.Fatalf("%d deeds cut short, %v", len(list), err)
	}
	var said []string
	for _, s := range list[0].Steps {
		shown := deed.ShownOf(s)
		said = append(said, fmt.Sprintf("%s %s %d %v %s", s.Kind(), s.Title, shown.Bytes, shown.Fenced, shown.Path))
	}
	want := []string{"write write the table 3584 false ", "action tell the kernel of partition 2 on sdb 0 false ", "write write the label 3072 true ", "file make directory /srv 0 false ",
		"file make directory /srv/herbarium 0 false ", "file add a line to /etc/fstab 0 false /etc/fstab"}
	if !slices.Equal(said, want) {
		t.Errorf("its steps:\n%s", strings.Join(said, "\n"))
	}
	stands := func(way deed.Direction) {
		t.Helper()
		want, err := os.ReadFile(filepath.Join(dir, string(way)))
		if got := digest(t, r); err != nil || got != string(want) {
			t.Errorf("the disk is another one than %s (%v)", way, err)
		}
		fstab, err := os.ReadFile(filepath.Join(r.root, "etc/fstab"))
		if there := strings.Contains(string(fstab), "/srv/herbarium"); there != (way == deed.Forward) {
			t.Errorf("%s: fstab %q, %v", way, fstab, err)
		}
	}
	if err := r.recover(store, way); err != nil {
		t.Fatalf("recover %s: %v", way, err)
	}
	stands(way)
	if way == deed.Forward {
		if _, err := r.commit(store, &past.Undo{Deed: fmt.Sprint(list[0].Number)}); err != nil {
			t.Fatalf("undo: %v", err)
		}
		stands(deed.Back)
	}
}

// keep writes the deed and the disk into testdata.
func keep(t *testing.T) {
	t.Helper()
	r := newRig(t, 512, 512)
	must(t, r, storeIn(t), herbarium()...)
	r.faulty, r.files = nil, true
	road := whole(adding(disk.NewPart{Size: size("2MiB"), Name: "scans"}), &content.Label{Target: "sdb1", Label: "mosses"}, &boot.FstabAdd{Target: "sdb1", Dir: "/srv/herbarium"})
	x, done := record(t, r, storeIn(t), func(r *rig) error { _, err := r.commit(r.recorder.store, road); return err })
	cut, store := x.at(t, len(x.ops)/2, 1)
	dir := kept + fmt.Sprint(draft.Format)
	err := errors.Join(os.RemoveAll(dir), os.MkdirAll(dir, 0o755), os.CopyFS(filepath.Join(dir, "deeds"), os.DirFS(filepath.Join(store.Dir, "deeds"))))
	for way, state := range map[deed.Direction]*rig{deed.Back: r, deed.Forward: done} {
		err = errors.Join(err, os.WriteFile(filepath.Join(dir, string(way)), []byte(digest(t, state)), 0o644))
	}
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	_, errZip := z.Write([]byte(sectors(t, cut)))
	err = errors.Join(err, errZip, z.Close(), os.WriteFile(filepath.Join(dir, "medium.gz"), packed.Bytes(), 0o644))
	if err != nil {
		t.Fatal(err)
	}
}
