// Package oscall holds what Fundus asks of the operating system besides
// devices: durable text files, locks, free space, paths kept inside a root,
// and facts about the terminal.
package oscall

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
	"golang.org/x/term"
)

// ErrLocked says that another process holds the lock.
var ErrLocked = errors.New("locked by another process")

// Lock is an exclusive lock on a file.
type Lock struct{ f *os.File }

// TryLock takes the lock on the path, which is made if it is missing, without
// waiting. The text is left in the file for whoever finds it locked.
func TryLock(path, text string) (*Lock, error) {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE|unix.O_CLOEXEC, 0o600)
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		holder, _ := os.ReadFile(path)
		f.Close()
		if errors.Is(err, unix.EWOULDBLOCK) {
			if who := strings.TrimSpace(string(holder)); who != "" { // it may not have said yet
				return nil, fmt.Errorf("%s: %w: %s", path, ErrLocked, who)
			}
			return nil, fmt.Errorf("%s: %w", path, ErrLocked)
		}
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	if err := errors.Join(f.Truncate(0), writeAll(f, text)); err != nil {
		f.Close()
		return nil, err
	}
	return &Lock{f}, nil
}

func writeAll(f *os.File, text string) error {
	_, err := f.WriteAt([]byte(text), 0)
	return err
}

// Unlock lets go.
func (l *Lock) Unlock() {
	if l != nil {
		l.f.Close()
	}
}

// Attributes are what a rewritten file keeps.
type Attributes struct {
	Mode fs.FileMode `json:"mode"`
	UID  int         `json:"uid"`
	GID  int         `json:"gid"`
}

// ReadFile reads a regular file with its attributes.
func ReadFile(path string) ([]byte, Attributes, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, Attributes{}, err
	}
	var st unix.Stat_t
	if err := unix.Stat(path, &st); err != nil {
		return nil, Attributes{}, err
	}
	return data, Attributes{fs.FileMode(st.Mode & 0o7777), int(st.Uid), int(st.Gid)}, nil
}

// WriteFile replaces the file durably: a temporary file beside it, synced,
// renamed over it, and the directory synced. A reader sees the old content or
// the new one. Extended attributes of the old file are copied.
func WriteFile(path string, data []byte, a Attributes) error {
	return ReplaceFile(path, data, a, func() error { return nil })
}

// ReplaceFile is WriteFile with a last look at the old file, just before the new one takes
// its place.
func ReplaceFile(path string, data []byte, a Attributes, look func() error) error {
	dir := filepath.Dir(path)
	f, err := os.CreateTemp(dir, "."+filepath.Base(path)+".new-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) // fails once it was renamed
	_, err = f.Write(data)
	if err == nil && (a.UID != os.Getuid() || a.GID != os.Getgid()) {
		err = f.Chown(a.UID, a.GID)
	}
	if err == nil { // behind the owner: another one takes the special bits away. os.File's own knows only nine
		err = unix.Fchmod(int(f.Fd()), uint32(a.Mode))
	}
	if err == nil {
		err = copyXattrs(path, f)
	}
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := look(); err != nil {
		return err
	}
	if err := os.Rename(f.Name(), path); err != nil {
		return err
	}
	return SyncDir(dir)
}

// OverwriteFile writes over the file where it lies, for one that nothing can be renamed
// over. Cut short, it leaves neither the old content nor the new one.
func OverwriteFile(path string, data []byte) error {
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	if _, err = f.WriteAt(data, 0); err == nil { // else what stands behind the write is all that is left
		err = f.Truncate(int64(len(data)))
	}
	return errors.Join(err, f.Sync(), f.Close())
}

// NewFile writes and syncs a file that must not exist yet. Its name is durable
// only once the directory is synced.
func NewFile(path string, data []byte) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	return errors.Join(err, f.Sync(), f.Close())
}

func copyXattrs(from string, to *os.File) error {
	names := make([]byte, 64<<10)
	n, err := unix.Listxattr(from, names)
	if err != nil || n == 0 {
		return nil // no such file yet, or none to keep
	}
	for name := range strings.SplitSeq(strings.TrimRight(string(names[:n]), "\x00"), "\x00") {
		value := make([]byte, 64<<10)
		k, err := unix.Getxattr(from, name, value)
		if err != nil {
			continue // one that we may not read, we could not keep
		}
		if err := unix.Fsetxattr(int(to.Fd()), name, value[:k], 0); err != nil {
			return fmt.Errorf("%s: keeping attribute %s: %w", from, name, err)
		}
	}
	return nil
}

// SyncData makes a file's bytes and its length durable, its times not.
func SyncData(f *os.File) error { return unix.Fdatasync(int(f.Fd())) }

// SyncDir makes names in the directory durable.
func SyncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

// FreeBytes is what the file system that holds the path has left for us.
func FreeBytes(path string) (int64, error) {
	var st unix.Statfs_t
	if err := unix.Statfs(path, &st); err != nil {
		return 0, err
	}
	return int64(st.Bavail) * st.Bsize, nil
}

// Volatile reports whether the path lies on a file system that a power loss
// empties.
func Volatile(path string) bool {
	var st unix.Statfs_t
	if unix.Statfs(path, &st) != nil {
		return false
	}
	return st.Type == unix.TMPFS_MAGIC || st.Type == unix.RAMFS_MAGIC
}

// FileIdentity names a file by its file system and inode, so that it is found
// again under another name.
func FileIdentity(path string) (string, error) {
	var st unix.Stat_t
	var sf unix.Statfs_t
	if err := errors.Join(unix.Stat(path, &st), unix.Statfs(path, &sf)); err != nil {
		return "", &fs.PathError{Op: "stat", Path: path, Err: err}
	}
	return fmt.Sprintf("image %08x%08x-%d", uint32(sf.Fsid.Val[0]), uint32(sf.Fsid.Val[1]), st.Ino), nil
}

// LockedBy names another process that has the file locked for itself alone, as
// /proc/locks lists them (proc(5)); empty for none.
func LockedBy(path string) string {
	var st unix.Stat_t
	data, err := os.ReadFile("/proc/locks")
	if err != nil || unix.Stat(path, &st) != nil {
		return ""
	}
	place := fmt.Sprintf("%02x:%02x:%d", unix.Major(st.Dev), unix.Minor(st.Dev), st.Ino)
	for line := range strings.Lines(string(data)) {
		f := strings.Fields(line) // number, kind, advisory, WRITE, process, place, from, to; those of open files name no process
		if len(f) < 8 || f[1] != "FLOCK" || f[3] != "WRITE" || f[5] != place || f[4] == strconv.Itoa(os.Getpid()) {
			continue
		}
		name, err := os.ReadFile(filepath.Join("/proc", f[4], "comm"))
		if err != nil {
			return "another process"
		}
		return fmt.Sprintf("process %s (%s)", f[4], strings.TrimSpace(strings.ToValidUTF8(string(name), "?")))
	}
	return ""
}

// Renamed gives the path of the file with the identity: the one that it had, or else
// that of a file in the same directory, or that one still where none has the identity.
func Renamed(path, identity string) string {
	if now, err := FileIdentity(path); err == nil && now == identity {
		return path
	}
	entries, err := os.ReadDir(filepath.Dir(path))
	if err != nil {
		return path
	}
	for _, e := range entries {
		other := filepath.Join(filepath.Dir(path), e.Name())
		if now, err := FileIdentity(other); e.Type().IsRegular() && err == nil && now == identity {
			return other
		}
	}
	return path
}

// IsTerminal reports whether the file is a terminal, and how wide.
func IsTerminal(f *os.File) (width, height int, yes bool) {
	fd := int(f.Fd())
	if !term.IsTerminal(fd) {
		return 0, 0, false
	}
	w, h, err := term.GetSize(fd)
	if err != nil {
		w, h = 80, 0
	}
	return w, h, true
}

// Unnamed opens a file without a name in the directory, which is made if it is
// missing: it is gone with the process.
func Unnamed(dir string) (*os.File, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	f, err := os.CreateTemp(dir, "spill-*")
	if err != nil {
		return nil, err
	}
	if err := os.Remove(f.Name()); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}
