package machine

import (
	"errors"
	"os"
	"path/filepath"
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
