package oscall

import (
	"errors"
	"io/fs"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// Facts are what the kernel says of a file that is to be replaced.
type Facts struct {
	There    bool
	Names    int    // hard links
	Mounted  bool   // it is a mount point itself
	Fixed    string // "immutable" or "append-only"
	ReadOnly bool   // the file system of its directory
	Memory   string // the kind of that, where it is in memory
}

// FactsOf asks about a file, itself and not what it leads to.
func FactsOf(path string) (f Facts) {
	var st unix.Statx_t
	if err := unix.Statx(unix.AT_FDCWD, path, unix.AT_SYMLINK_NOFOLLOW, unix.STATX_BASIC_STATS, &st); err == nil {
		f.There, f.Names = true, int(st.Nlink)
		f.Mounted = st.Attributes&unix.STATX_ATTR_MOUNT_ROOT != 0
		switch {
		case st.Attributes&unix.STATX_ATTR_IMMUTABLE != 0:
			f.Fixed = "immutable"
		case st.Attributes&unix.STATX_ATTR_APPEND != 0:
			f.Fixed = "append-only"
		}
	}
	var kept unix.Statfs_t
	if err := unix.Statfs(filepath.Dir(path), &kept); err == nil {
		f.ReadOnly = kept.Flags&unix.ST_RDONLY != 0
		f.Memory = map[int64]string{unix.TMPFS_MAGIC: "tmpfs", unix.RAMFS_MAGIC: "ramfs", unix.OVERLAYFS_SUPER_MAGIC: "overlay"}[kept.Type]
	}
	return f
}

// Unwritable reports whether an error says that nothing can be written there.
func Unwritable(err error) bool {
	return errors.Is(err, fs.ErrPermission) || errors.Is(err, unix.EROFS)
}
