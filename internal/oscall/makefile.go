package oscall

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// Making is a file that is to be made.
type Making struct {
	Path    string
	Size    int64
	Header  []byte // its first bytes; behind them it reads as zeros
	Written bool   // the zeros are written
	Plain   bool   // never copied on write
}

// MakeFile makes a file that only its owner may read, with blocks of its own. It has another
// name until all of it is on the disk; what an earlier try left under that is taken away.
func MakeFile(ctx context.Context, m Making, report func(done int64)) error {
	hidden := filepath.Join(filepath.Dir(m.Path), "."+filepath.Base(m.Path)+".new")
	if err := os.Remove(hidden); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	f, err := os.OpenFile(hidden, os.O_CREATE|os.O_EXCL|os.O_RDWR|unix.O_NOFOLLOW, 0o600)
	if err != nil {
		return err
	}
	if err := errors.Join(fill(ctx, f, m, report), f.Sync(), f.Close()); err != nil {
		return errors.Join(err, os.Remove(hidden))
	}
	if err := unix.Renameat2(unix.AT_FDCWD, hidden, unix.AT_FDCWD, m.Path, unix.RENAME_NOREPLACE); err != nil {
		return errors.Join(&fs.PathError{Op: "rename", Path: m.Path, Err: err}, os.Remove(hidden))
	}
	return SyncDir(filepath.Dir(m.Path))
}

// fill gives the file its blocks. What has to be written is synced now and then: memory that
// is full of it keeps everybody else waiting at the end.
func fill(ctx context.Context, f *os.File, m Making, report func(done int64)) error {
	if m.Plain { // while it is empty, or it has no effect
		if err := setFlag(f, neverCopied); err != nil {
			return &fs.PathError{Op: "forbid copies of", Path: m.Path, Err: err}
		}
	}
	if !m.Written {
		if err := unix.Fallocate(int(f.Fd()), 0, 0, m.Size); err != nil {
			return &fs.PathError{Op: "set blocks aside for", Path: m.Path, Err: err}
		}
	} else {
		const between = 64 << 20
		zeros := make([]byte, 1<<20)
		for at := int64(0); at < m.Size; {
			n := min(m.Size-at, int64(len(zeros)))
			if _, err := f.WriteAt(zeros[:n], at); err != nil {
				return err
			}
			if at += n; at%between == 0 {
				if err := errors.Join(SyncData(f), ctx.Err()); err != nil {
					return err
				}
			}
			report(at)
		}
	}
	_, err := f.WriteAt(m.Header, 0)
	return err
}

// neverCopied is FS_NOCOW_FL of include/uapi/linux/fs.h.
const neverCopied = 0x00800000

// setFlag adds an attribute of a file, which the file system may not know.
func setFlag(f *os.File, flag uint32) error {
	now, err := unix.IoctlGetUint32(int(f.Fd()), unix.FS_IOC_GETFLAGS)
	if err != nil {
		return err
	}
	return unix.IoctlSetPointerInt(int(f.Fd()), unix.FS_IOC_SETFLAGS, int(now|flag))
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
