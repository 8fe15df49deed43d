package file

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"fundus/core/block"
)

func image(t *testing.T, size int64) *File {
	t.Helper()
	path := filepath.Join(t.TempDir(), "card.img")
	if err := Create(path, size); err != nil {
		t.Fatal(err)
	}
	d, err := Open(path, true, block.DefaultGeometry)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	return d
}

// TestPagesWithin: of a span whole pages are zeroed by the device, and nothing outside of it.
func TestPagesWithin(t *testing.T) {
	for _, c := range [][4]int64{{0, 8192, 0, 8192}, {1, 8192, 4096, 8192}, {4095, 4098, 4096, 8192}, {4096, 4095, 4096, 4096}, {512, 1024, 512, 512}, {17408, 1 << 20, 20480, 1064960}} {
		if from, until := pagesWithin(c[0], c[1], 4096); from != c[2] || until != c[3] {
			t.Errorf("%d bytes from %d on: %d to %d, want %d to %d", c[1], c[0], from, until, c[2], c[3])
		}
	}
}

// TestImageStaysSparse: what is zeroed takes no room, and reads as zeros past
// the cache too.
func TestImageStaysSparse(t *testing.T) {
	d := image(t, 1<<32)
	if _, err := d.WriteAt(bytes.Repeat([]byte{7}, 4<<20), 1<<30); err != nil {
		t.Fatal(err)
	}
	if err := d.WriteZeroes(0, 1<<32-4096); err != nil {
		t.Fatal(err)
	}
	if err := d.Sync(); err != nil {
		t.Fatal(err)
	}
	info, err := os.Stat(d.Path())
	if err != nil {
		t.Fatal(err)
	}
	if used := info.Sys().(*syscall.Stat_t).Blocks * 512; used > 64<<10 || info.Size() != 1<<32 {
		t.Errorf("the image takes %d bytes and is %d long", used, info.Size())
	}
	p := AlignedBuffer(8192)
	p[0] = 1
	if _, err := d.ReadBack(p, 1<<30); err != nil || !block.IsZero(p) {
		t.Errorf("ReadBack: %v, zero %v", err, block.IsZero(p))
	}
	if start, end, hole, err := d.Next(1 << 29); err != nil || !hole || start > 1<<29 || end < 1<<30 {
		t.Errorf("Next = %d, %d, %v, %v", start, end, hole, err)
	}
}

func TestLockExcludesAnotherOpener(t *testing.T) {
	d := image(t, 4096)
	if err := d.Lock(); err != nil {
		t.Fatal(err)
	}
	other, err := Open(d.Path(), true, block.DefaultGeometry)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	if err := other.Lock(); !errors.Is(err, ErrLocked) {
		t.Errorf("second lock = %v", err)
	}
}

func TestOpenRefuses(t *testing.T) {
	dir := t.TempDir()
	odd := filepath.Join(dir, "odd.img")
	if err := os.WriteFile(odd, make([]byte, 1000), 0o600); err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]error{odd: ErrSize, dir: ErrKind, filepath.Join(dir, "none"): fs.ErrNotExist} {
		if _, err := Open(path, true, block.DefaultGeometry); !errors.Is(err, want) && !(path == dir && err != nil) {
			t.Errorf("Open(%s) = %v, want %v", filepath.Base(path), err, want)
		}
	}
	if _, err := Open(dir, false, block.DefaultGeometry); !errors.Is(err, ErrKind) {
		t.Errorf("a directory: %v", err)
	}
	if d, err := Open(odd, false, block.DefaultGeometry); err != nil || d.Size() != 512 {
		t.Errorf("what ends in mid-sector can be looked at: %v", err)
	}
}
