package oscall

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sys/unix"
)

// TestWriteFileReplaces: the new content, with the mode and the extended
// attributes of the old file, and nothing left beside it.
func TestWriteFileReplaces(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "fstab")
	if err := os.WriteFile(path, []byte("old"), 0o640); err != nil {
		t.Fatal(err)
	}
	marked := unix.Setxattr(path, "user.fernhill", []byte("kept"), 0) == nil // not every file system has them
	_, a, err := ReadFile(path)
	if err != nil || a.Mode != 0o640 {
		t.Fatalf("%+v, %v", a, err)
	}
	if err := WriteFile(path, []byte("new"), a); err != nil {
		t.Fatal(err)
	}
	data, again, err := ReadFile(path)
	if err != nil || string(data) != "new" || again != a {
		t.Errorf("%q, %+v, %v", data, again, err)
	}
	value := make([]byte, 10)
	if n, err := unix.Getxattr(path, "user.fernhill", value); marked && (err != nil || string(value[:n]) != "kept") {
		t.Errorf("attribute: %q, %v", value[:max(n, 0)], err)
	}
	if entries, _ := os.ReadDir(dir); len(entries) != 1 {
		t.Errorf("%d files: something was left", len(entries))
	}
}

// TestWriteFileFailsWhole: where the directory cannot be written, the old file
// stays and nothing is left.
func TestWriteFileFailsWhole(t *testing.T) {
	path := filepath.Join(t.TempDir(), "none", "fstab")
	if err := WriteFile(path, []byte("new"), Attributes{Mode: 0o644}); err == nil {
		t.Error("writing into a missing directory succeeded")
	}
}

func TestLockNamesItsHolder(t *testing.T) {
	path := filepath.Join(t.TempDir(), "lock")
	first, err := TryLock(path, "committing draft 3fa9c210")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := TryLock(path, "me too"); !errors.Is(err, ErrLocked) || !strings.Contains(err.Error(), "3fa9c210") {
		t.Errorf("second lock = %v", err)
	}
	first.Unlock()
	again, err := TryLock(path, "now me")
	if err != nil {
		t.Errorf("after unlocking: %v", err)
	}
	again.Unlock()
}

func TestFileIdentityFollowsTheFile(t *testing.T) {
	dir := t.TempDir()
	a, b := filepath.Join(dir, "a.img"), filepath.Join(dir, "b.img")
	for _, p := range []string{a, b} {
		if err := os.WriteFile(p, nil, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	first, err := FileIdentity(a)
	other, errOther := FileIdentity(b)
	if err != nil || errOther != nil || first == other {
		t.Fatalf("%q %v, %q %v", first, err, other, errOther)
	}
	if err := os.Rename(a, filepath.Join(dir, "c.img")); err != nil {
		t.Fatal(err)
	}
	if moved, err := FileIdentity(filepath.Join(dir, "c.img")); err != nil || moved != first {
		t.Errorf("renamed: %q, %v", moved, err)
	}
}

func TestUnnamedHasNoName(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "state")
	f, err := Unnamed(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if _, err := f.WriteAt([]byte("spilled"), 1<<20); err != nil {
		t.Error(err)
	}
	if entries, _ := os.ReadDir(dir); len(entries) != 0 {
		t.Errorf("%d files stay", len(entries))
	}
}

// TestSpecialBitsAreKept: a file that is replaced has the set-group bit of the one before.
func TestSpecialBitsAreKept(t *testing.T) {
	path := filepath.Join(t.TempDir(), "fstab")
	for _, mode := range []uint32{0o2664, 0o4755, 0o1644, 0o640} {
		if err := errors.Join(os.WriteFile(path, nil, 0o600), unix.Chmod(path, mode)); err != nil {
			t.Fatal(err)
		}
		_, kept, err := ReadFile(path)
		if err := errors.Join(err, WriteFile(path, []byte("new"), kept)); err != nil {
			t.Fatal(err)
		}
		if _, now, err := ReadFile(path); err != nil || now != kept || uint32(now.Mode) != mode {
			t.Errorf("%o became %o, %v", mode, uint32(now.Mode), err)
		}
	}
}

// TestLoopOf reads the kernel's list as it is laid out in sysfs: an image is found under each
// of its names, and a file that only is called alike is not. The devices cannot be asked here;
// the proof of images over loop devices asks them.
func TestLoopOf(t *testing.T) {
	sys, dir := t.TempDir(), t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	err := errors.Join(os.WriteFile(at("card.img"), nil, 0o644), os.WriteFile(at("other.img"), nil, 0o644), os.Link(at("card.img"), at("hard.img")), os.Symlink(at("card.img"), at("link.img")), os.Symlink(dir, at("again")))
	for name, carried := range map[string]string{"loop0": at("other.img"), "loop7": at("card.img"), "loop8": at("gone.img (deleted)")} {
		entry := filepath.Join(sys, name, "loop")
		err = errors.Join(err, os.MkdirAll(entry, 0o755), os.WriteFile(filepath.Join(entry, "backing_file"), []byte(carried+"\n"), 0o644))
	}
	if err := errors.Join(err, os.Mkdir(filepath.Join(sys, "loop9"), 0o755)); err != nil {
		t.Fatal(err)
	}
	for image, want := range map[string]string{"card.img": "loop7", "hard.img": "loop7", "link.img": "loop7", "again/link.img": "loop7", "other.img": "loop0", "gone.img": "", "again": ""} {
		if got := LoopOf(sys, t.TempDir(), at(image)); got != want {
			t.Errorf("LoopOf(%s) = %q, want %q", image, got, want)
		}
	}
}
