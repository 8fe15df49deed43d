package oscall

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"
)

// FileID tells one file from another, whatever the two are called: by the number of the
// device that its file system has, and its inode. It holds while the system runs; what is
// kept for longer is FileIdentity.
type FileID struct{ Dev, Inode uint64 }

// IDOf is the identity of the file at the path, links followed.
func IDOf(path string) (FileID, bool) {
	var st unix.Stat_t
	if unix.Stat(path, &st) != nil {
		return FileID{}, false
	}
	return FileID{st.Dev, st.Ino}, true
}

// SameFile reports whether both paths lead to one file.
func SameFile(a, b string) bool {
	x, okX := IDOf(a)
	y, okY := IDOf(b)
	return okX && okY && x == y
}

// SysBlock is where the kernel lists its block devices.
const SysBlock = "/sys/block"

// Carried is the file that a loop device carries: as its driver says (LOOP_GET_STATUS64, which
// has device and inode), or else, for whoever may not open the device, what is now at the
// path that the kernel shows. sys is the device's folder in the kernel's list, dev the
// directory of the nodes.
//
// Source: loop(4); fs/stat.c and drivers/block/loop.c encode the device's number alike.
func Carried(sys, dev string) (FileID, bool) {
	shown, err := os.ReadFile(filepath.Join(sys, "loop", "backing_file"))
	if err != nil {
		return FileID{}, false // it carries nothing
	}
	if f, err := os.OpenFile(filepath.Join(dev, filepath.Base(sys)), os.O_RDONLY|unix.O_NONBLOCK|unix.O_CLOEXEC, 0); err == nil {
		defer f.Close()
		if info, err := unix.IoctlLoopGetStatus64(int(f.Fd())); err == nil {
			return FileID{info.Device, info.Inode}, true
		}
	}
	return IDOf(strings.TrimSuffix(strings.TrimRight(string(shown), "\n"), " (deleted)"))
}

// LoopOf names the loop device that carries the image, under whatever name it was given one,
// if one of those listed in the directory does.
func LoopOf(sysBlock, dev, image string) string {
	id, ok := IDOf(image)
	dirs, err := filepath.Glob(filepath.Join(sysBlock, "loop*"))
	if !ok || err != nil {
		return ""
	}
	i := slices.IndexFunc(dirs, func(dir string) bool {
		carried, ok := Carried(dir, dev)
		return ok && carried == id
	})
	if i < 0 {
		return ""
	}
	return filepath.Base(dirs[i])
}
