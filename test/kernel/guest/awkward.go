package main

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// awkward is ROOT HOW: brings the fstab below a root into a state that it cannot simply be
// replaced in, or out of it.
func awkward(words []string) string {
	path := filepath.Join(words[0], "etc/fstab")
	attribute := func(flag int) error {
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		defer f.Close()
		return unix.IoctlSetPointerInt(int(f.Fd()), unix.FS_IOC_SETFLAGS, flag)
	}
	const immutable, appendOnly, extents = 0x10, 0x20, 0x80000
	aside := filepath.Join(words[0], "aside")
	switch words[1] {
	case "immutable":
		return fine(attribute(immutable | extents))
	case "append-only":
		return fine(attribute(appendOnly | extents))
	case "plain":
		return fine(attribute(extents))
	case "link": // a chain of two, the second from the root
		return fine(errors.Join(os.Rename(path, filepath.Join(words[0], "real")), os.Symlink("/real", aside), os.Symlink("../aside", path)))
	case "unlink":
		return fine(errors.Join(os.Remove(path), os.Remove(aside), os.Rename(filepath.Join(words[0], "real"), path)))
	case "mounted":
		return fine(errors.Join(os.WriteFile(aside, nil, 0o644), copyInto(path, aside), syscall.Mount(aside, path, "", syscall.MS_BIND, "")))
	case "unmounted":
		return fine(errors.Join(syscall.Unmount(path, 0), os.Remove(aside)))
	case "twice": // a second name
		return fine(os.Link(path, aside))
	case "once":
		return fine(os.Remove(aside))
	case "readonly":
		return fine(syscall.Mount("", words[0], "", syscall.MS_REMOUNT|syscall.MS_RDONLY, ""))
	case "writable":
		return fine(syscall.Mount("", words[0], "", syscall.MS_REMOUNT, ""))
	case "full": // every block is taken
		f, err := os.Create(filepath.Join(words[0], "full"))
		for err == nil {
			_, err = f.Write(make([]byte, 1<<16))
		}
		for size := 1 << 12; size > 0; size /= 2 {
			for _, err = f.Write(make([]byte, size)); err == nil; {
				_, err = f.Write(make([]byte, size))
			}
		}
		return fine(f.Close())
	case "empty":
		return fine(os.Remove(filepath.Join(words[0], "full")))
	case "says":
		kind := "a file"
		if info, err := os.Lstat(path); err == nil && info.Mode()&os.ModeSymlink != 0 {
			kind, path = "a link", filepath.Join(words[0], "real")
		}
		data, err := os.ReadFile(path)
		return kind + ": " + strings.TrimSpace(string(data)) + fine(err)
	case "xattr": // an attribute that a replaced file keeps
		return fine(unix.Setxattr(path, "user.fernhill", []byte("herbarium"), 0))
	case "attributes":
		b := make([]byte, 64)
		n, err := unix.Getxattr(path, "user.fernhill", b)
		if err != nil {
			return err.Error()
		}
		var st unix.Stat_t
		if err := unix.Stat(path, &st); err != nil {
			return err.Error()
		}
		return string(b[:n]) + " " + os.FileMode(st.Mode&0o777).String()
	}
	return "no such state"
}

func copyInto(from, to string) error {
	data, err := os.ReadFile(from)
	if err != nil {
		return err
	}
	return os.WriteFile(to, data, 0o644)
}
