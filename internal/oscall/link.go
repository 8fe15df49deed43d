package oscall

import (
	"errors"
	"io/fs"
	"path"

	"golang.org/x/sys/unix"
)

// ErrLinked is a directory that is reached through a symbolic link, which whoever owns it
// can turn elsewhere.
var ErrLinked = errors.New("a symbolic link leads there")

// dirBelow opens a directory below a root without following any link on the way.
func dirBelow(root, dir string) (int, error) {
	at, err := unix.Open(root, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return -1, &fs.PathError{Op: "open", Path: root, Err: err}
	}
	defer unix.Close(at)
	how := unix.OpenHow{Flags: unix.O_RDONLY | unix.O_DIRECTORY | unix.O_CLOEXEC, Resolve: unix.RESOLVE_NO_SYMLINKS | unix.RESOLVE_IN_ROOT}
	fd, err := unix.Openat2(at, dir, &how)
	if errors.Is(err, unix.ELOOP) {
		err = ErrLinked
	}
	if err != nil {
		return -1, &fs.PathError{Op: "open", Path: dir, Err: err}
	}
	return fd, nil
}

// LinkAt says where the symbolic link of the path below a root leads, and whether something
// is there at all: another thing than a link leads to "".
func LinkAt(root, name string) (to string, there bool, err error) {
	dir, err := dirBelow(root, path.Dir(name))
	if errors.Is(err, fs.ErrNotExist) {
		return "", false, nil // a deed that was cut short had not made the directory yet
	}
	if err != nil {
		return "", false, err
	}
	defer unix.Close(dir)
	return readLink(dir, path.Base(name))
}

func readLink(dir int, name string) (to string, there bool, err error) {
	buf := make([]byte, unix.PathMax)
	switch n, err := unix.Readlinkat(dir, name, buf); {
	case err == nil:
		return string(buf[:n]), true, nil
	case errors.Is(err, unix.ENOENT):
		return "", false, nil
	case errors.Is(err, unix.EINVAL):
		return "", true, nil
	default:
		return "", false, &fs.PathError{Op: "read the link", Path: name, Err: err}
	}
}

// MakeLink makes a symbolic link that belongs to whoever owns the directory in which it lies.
// No link on the way there is followed.
func MakeLink(root, name, to string) error {
	dir, err := dirBelow(root, path.Dir(name))
	if err != nil {
		return err
	}
	defer unix.Close(dir)
	if err := unix.Symlinkat(to, dir, path.Base(name)); err != nil {
		return &fs.PathError{Op: "make the link", Path: name, Err: err}
	}
	var st unix.Stat_t
	err = unix.Fstat(dir, &st)
	if err == nil {
		err = unix.Fchownat(dir, path.Base(name), int(st.Uid), int(st.Gid), unix.AT_SYMLINK_NOFOLLOW)
	}
	return errors.Join(err, unix.Fsync(dir))
}

// RemoveLink takes a symbolic link away, where it leads there still.
func RemoveLink(root, name, to string) error {
	dir, err := dirBelow(root, path.Dir(name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil // nor the link in it
	}
	if err != nil {
		return err
	}
	defer unix.Close(dir)
	if now, _, err := readLink(dir, path.Base(name)); err != nil || now != to {
		return err
	}
	if err := unix.Unlinkat(dir, path.Base(name), 0); err != nil {
		return &fs.PathError{Op: "remove", Path: name, Err: err}
	}
	return unix.Fsync(dir)
}
