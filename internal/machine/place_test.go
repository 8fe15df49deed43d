package machine

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

// TestBelow: whatever the path and the links, the place lies below the root, where the
// system itself would find it.
func TestBelow(t *testing.T) {
	root := t.TempDir()
	err := errors.Join(os.MkdirAll(filepath.Join(root, "etc"), 0o755), os.MkdirAll(filepath.Join(root, "srv/deep"), 0o755), os.WriteFile(filepath.Join(root, "etc/hostname"), nil, 0o644),
		os.Symlink("/srv", filepath.Join(root, "out")), os.Symlink("../../../../etc", filepath.Join(root, "srv/up")), os.Symlink("a", filepath.Join(root, "b")), os.Symlink("b", filepath.Join(root, "a")),
		os.Symlink("/yet/to/come", filepath.Join(root, "etc/fstab")))
	if err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]string{
		"/etc/hostname": "/etc/hostname", "/etc/fstab": "/yet/to/come", "etc/../../../etc/passwd": "/etc/passwd", "/../../x": "/x", "/etc/./hostname": "/etc/hostname",
		"/out/deep": "/srv/deep", "/srv/up/hostname": "/etc/hostname", "/out/up/../srv//deep/": "/srv/deep", "/new/deep": "/new/deep",
		"/a": "", "/etc/hostname/x": "", "/new/../etc": "",
	} {
		at, err := Below(root, path)
		if at.Path != want || (err == nil) != (want != "") || err == nil && at.Full != filepath.Join(root, want) {
			t.Errorf("%s: %+v, %v, want %s", path, at, err, want)
		}
	}
}

// TestRefuse: what is in the way of replacing a file is named, and only a mount point can be
// written over.
func TestRefuse(t *testing.T) {
	for why, c := range map[string]struct {
		place   Place
		inPlace bool
	}{
		"":                            {Place{Path: "/etc/fstab"}, false},
		"is read-only":                {Place{Path: "/etc/fstab", ReadOnly: true, Mounted: true}, true},
		"gone with the next boot":     {Place{Path: "/run/fstab", Volatile: "tmpfs"}, true},
		"it is immutable":             {Place{Path: "/etc/fstab", Fixed: "immutable"}, true},
		"it is a mount point itself":  {Place{Path: "/etc/fstab", Mounted: true}, false},
		"/etc/fstab (/srv/real): it ": {Place{Path: "/srv/real", Fixed: "append-only"}, false},
	} {
		r := c.place.Refuse("/etc/fstab", c.inPlace)
		if (r == nil) != (why == "") || r != nil && !strings.Contains(r.Error(), why) {
			t.Errorf("%s: %v", why, r)
		}
	}
	if r := (Place{Path: "/etc/fstab", Mounted: true}).Refuse("/etc/fstab", true); r != nil {
		t.Error(r)
	}
}

// TestPipes: what is no text file is not read: whoever opens a pipe waits for its writer. A mask,
// which leads to a device that holds nothing, is empty.
func TestPipes(t *testing.T) {
	pipe, mask := filepath.Join(t.TempDir(), "pipe.mount"), filepath.Join(t.TempDir(), "mask.mount")
	if err := errors.Join(syscall.Mkfifo(pipe, 0o600), os.Symlink("/dev/null", mask)); err != nil {
		t.Fatal(err)
	}
	if _, err := ReadFileState(pipe); !errors.Is(err, ErrNoText) {
		t.Errorf("a pipe: %v", err)
	}
	if s, err := ReadFileState(mask); err != nil || s.Missing || len(s.Data) > 0 {
		t.Errorf("a mask: %+v, %v", s, err)
	}
}
