package oscall

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"golang.org/x/sys/unix"
)

// TestLinks: a link is made where it was said and nowhere else, and taken away only while it
// leads where it led.
func TestLinks(t *testing.T) {
	root := t.TempDir()
	home := filepath.Join(root, "home", "curator")
	if err := errors.Join(os.MkdirAll(home, 0o755), os.Symlink("/etc", filepath.Join(home, "turned")), os.Mkdir(filepath.Join(root, "etc"), 0o755)); err != nil {
		t.Fatal(err)
	}
	if err := MakeLink(root, "/home/curator/turned/passwd", "/srv"); !errors.Is(err, ErrLinked) {
		t.Errorf("a link was followed: %v", err)
	}
	const name = "/home/curator/herbarium"
	if os.Getuid() == 0 {
		if err := os.Chown(home, 1000, 1001); err != nil {
			t.Fatal(err)
		}
	}
	if err := MakeLink(root, name, "/srv/herbarium"); err != nil {
		t.Fatal(err)
	}
	var dir, link unix.Stat_t
	if err := errors.Join(unix.Stat(home, &dir), unix.Lstat(filepath.Join(root, name), &link)); err != nil || link.Uid != dir.Uid || link.Gid != dir.Gid {
		t.Errorf("the link belongs to %d:%d: %v", link.Uid, link.Gid, err)
	}
	if to, there, err := LinkAt(root, name); to != "/srv/herbarium" || !there || err != nil {
		t.Errorf("it leads to %q, %v, %v", to, there, err)
	}
	if err := MakeLink(root, name, "/srv/other"); !errors.Is(err, os.ErrExist) {
		t.Errorf("another took its place: %v", err)
	}
	if err := RemoveLink(root, name, "/srv/other"); err != nil {
		t.Error(err)
	}
	if _, there, _ := LinkAt(root, name); !there {
		t.Error("it went, and leads elsewhere")
	}
	if err := RemoveLink(root, name, "/srv/herbarium"); err != nil {
		t.Error(err)
	}
	if _, there, err := LinkAt(root, name); there || err != nil {
		t.Errorf("it is there still: %v", err)
	}
	if to, there, err := LinkAt(root, "/home/curator"); to != "" || !there || err != nil {
		t.Errorf("a directory is a link to %q, %v, %v", to, there, err)
	}
}
