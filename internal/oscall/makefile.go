package oscall

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// MakeFile makes a file of the size that only its owner may read, with blocks of its own that
// read as zeros behind the header. It has another name until all of it is on the disk; what
// an earlier try left under that is taken away.
func MakeFile(path string, size int64, header []byte) error {
	hidden := filepath.Join(filepath.Dir(path), "."+filepath.Base(path)+".new")
	if err := os.Remove(hidden); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	f, err := os.OpenFile(hidden, os.O_CREATE|os.O_EXCL|os.O_RDWR|unix.O_NOFOLLOW, 0o600)
	if err != nil {
		return err
	}
	err = unix.Fallocate(int(f.Fd()), 0, 0, size)
	if err == nil {
		_, err = f.WriteAt(header, 0)
	}
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return errors.Join(err, os.Remove(hidden))
	}
	if err := unix.Renameat2(unix.AT_FDCWD, hidden, unix.AT_FDCWD, path, unix.RENAME_NOREPLACE); err != nil {
		return errors.Join(&fs.PathError{Op: "rename", Path: path, Err: err}, os.Remove(hidden))
	}
	return SyncDir(filepath.Dir(path))
}

// IsMade reports whether there is a file, and whether it is one of the size that begins with
// the header.
func IsMade(path string, size int64, header []byte) (there, ours bool, err error) {
	info, err := os.Lstat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return false, false, nil
	}
	if err != nil || !info.Mode().IsRegular() || info.Size() != size {
		return true, false, err
	}
	f, err := os.Open(path)
	if err != nil {
		return true, false, err
	}
	defer f.Close()
	begins := make([]byte, len(header))
	_, err = f.ReadAt(begins, 0)
	return true, err == nil && bytes.Equal(begins, header), err
}

// RemoveFile takes a file away durably, and what an unfinished try left of it.
func RemoveFile(path string) error {
	hidden := filepath.Join(filepath.Dir(path), "."+filepath.Base(path)+".new")
	for _, p := range []string{hidden, path} {
		if err := os.Remove(p); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return SyncDir(filepath.Dir(path))
}
