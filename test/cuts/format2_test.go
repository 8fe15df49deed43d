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
	"strings"
	"testing"

	"fundus/core/block"
	"fundus/internal/deed"
	"fundus/internal/task/content"
	"fundus/internal/task/disk"
	"fundus/internal/task/use"
)

var update = flag.Bool("update", false, "write the deed of testdata/format2 anew")

const kept = "testdata/format2"

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
func loaded(t *testing.T, name string) *rig {
	t.Helper()
	r := newRig(t, 512, 512)
	f, err := os.Open(filepath.Join(kept, name))
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

// TestFormat2IsRecovered: a deed of format 2 that was cut short is kept in testdata, with
// the disk as it was then, and is recovered in both directions; every later release does
// that too. It adds a partition, labels a file system, and adds a line to fstab.
func TestFormat2IsRecovered(t *testing.T) {
	if *update {
		keep(t)
	}
	for _, way := range []deed.Direction{deed.Back, deed.Forward} {
		r := loaded(t, "medium.gz")
		r.files = true
		store := storeIn(t)
		if err := os.CopyFS(filepath.Join(store.Dir, "deeds"), os.DirFS(filepath.Join(kept, "deeds"))); err != nil {
			t.Fatal(err)
		}
		list, err := store.Unfinished()
		if err != nil || len(list) != 1 || list[0].Format != 2 {
			t.Fatalf("%d deeds cut short, %v", len(list), err)
		}
		if err := r.recover(store, way); err != nil {
			t.Fatalf("recover %s: %v", way, err)
		}
		want, err := os.ReadFile(filepath.Join(kept, string(way)))
		if got := digest(t, r); err != nil || got != string(want) {
			t.Errorf("recovered %s, the disk is another one (%v)", way, err)
		}
		fstab, err := os.ReadFile(filepath.Join(r.root, "etc/fstab"))
		if there := strings.Contains(string(fstab), "/srv/herbarium"); there != (way == deed.Forward) {
			t.Errorf("recovered %s: fstab %q, %v", way, fstab, err)
		}
	}
}

// keep writes the deed and the disk into testdata.
func keep(t *testing.T) {
	t.Helper()
	r := newRig(t, 512, 512)
	must(t, r, storeIn(t), herbarium()...)
	r.faulty, r.files = nil, true
	road := whole(adding(disk.NewPart{Size: size("2MiB"), Name: "scans"}), &content.Label{Target: "sdb1", Label: "mosses"}, &use.FstabAdd{Target: "sdb1", Dir: "/srv/herbarium"})
	x, done := record(t, r, storeIn(t), func(r *rig) error { _, err := r.commit(r.recorder.store, road); return err })
	cut, store := x.at(t, len(x.ops)/2, 1)
	err := errors.Join(os.RemoveAll(kept), os.MkdirAll(kept, 0o755), os.CopyFS(filepath.Join(kept, "deeds"), os.DirFS(filepath.Join(store.Dir, "deeds"))))
	for way, state := range map[deed.Direction]*rig{deed.Back: r, deed.Forward: done} {
		err = errors.Join(err, os.WriteFile(filepath.Join(kept, string(way)), []byte(digest(t, state)), 0o644))
	}
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	_, errZip := z.Write([]byte(sectors(t, cut)))
	err = errors.Join(err, errZip, z.Close(), os.WriteFile(filepath.Join(kept, "medium.gz"), packed.Bytes(), 0o644))
	if err != nil {
		t.Fatal(err)
	}
}
