package live

import (
	"strconv"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"

	"fundus/core/kind"
	"fundus/core/text/fstab"
	"fundus/internal/machine"
)

// mountFlags are the flags of mount(2) and the data for the kind. What is for systemd and for
// whoever reads fstab is left out; what user and its like imply is in.
func mountFlags(typ, options string) (flags uintptr, data string) {
	set := map[string]uintptr{"ro": unix.MS_RDONLY, "nosuid": unix.MS_NOSUID, "nodev": unix.MS_NODEV, "noexec": unix.MS_NOEXEC, "sync": unix.MS_SYNCHRONOUS,
		"dirsync": unix.MS_DIRSYNC, "noatime": unix.MS_NOATIME, "nodiratime": unix.MS_NODIRATIME, "relatime": unix.MS_RELATIME, "strictatime": unix.MS_STRICTATIME,
		"lazytime": unix.MS_LAZYTIME, "nosymfollow": unix.MS_NOSYMFOLLOW, "silent": unix.MS_SILENT, "iversion": unix.MS_I_VERSION}
	s := kind.Options(typ).Sort(fstab.Split(options))
	for _, o := range append(s.Superblock, s.Attributes...) {
		flags |= set[o]
	}
	return flags, strings.Join(s.Own, ",")
}

// Flags of swapon(2): include/linux/swap.h.
const (
	swapPrefer       = 0x8000
	swapPriority     = 0x7FFF
	swapDiscard      = 0x10000
	swapDiscardOnce  = 0x20000
	swapDiscardPages = 0x40000
)

// swapFlags are the priority and what is told to the disk.
func swapFlags(options string) (flags uintptr) {
	e := fstab.Entry{Options: fstab.Split(options)}
	if value, ok := e.Value("pri"); ok {
		if n, err := strconv.Atoi(value); err == nil && n >= 0 {
			flags |= swapPrefer | uintptr(min(n, swapPriority))
		}
	}
	if value, ok := e.Value("discard"); ok {
		flags |= swapDiscard | map[string]uintptr{"once": swapDiscardOnce, "pages": swapDiscardPages}[value]
	}
	return flags
}

// swap is swapon(2) or swapoff(2).
func swap(a machine.Action, path string) error {
	p, err := unix.BytePtrFromString(path)
	if err != nil {
		return err
	}
	call, flags := uintptr(unix.SYS_SWAPON), swapFlags(a.Options)
	if a.Verb == machine.SwapOff {
		call, flags = unix.SYS_SWAPOFF, 0
	}
	if _, _, errno := unix.Syscall(call, uintptr(unsafe.Pointer(p)), flags, 0); errno != 0 {
		return errno
	}
	return nil
}
