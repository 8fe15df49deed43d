package oscall

import (
	"errors"
	"os"
	"unsafe"

	"golang.org/x/sys/unix"
)

// FileExtent is a run of a file's bytes that lie one behind the other on the device.
type FileExtent struct {
	Logical, Physical, Length uint64 // bytes
	Flags                     uint32 // of include/uapi/linux/fiemap.h
}

// What an extent may be, of which the kernel says so.
const (
	ExtentLast      = 0x1
	ExtentUnknown   = 0x2 // it has no place yet
	ExtentDelayed   = 0x4
	ExtentInline    = 0x200
	ExtentUnwritten = 0x800 // it has a place, and reads as zeros
	ExtentShared    = 0x2000
)

// fiemapHead is struct fiemap without its extents, fiemapExtent one of them.
type fiemapHead struct {
	start, length             uint64
	flags, mapped, count, pad uint32
}

type fiemapExtent struct {
	logical, physical, length uint64
	_                         [2]uint64
	flags                     uint32
	_                         [3]uint32
}

// Extents lists where a file's bytes lie, in their order; holes are between them. With sync,
// what the kernel has not given a place yet is given one first.
//
// Source: Documentation/filesystems/fiemap.rst of Linux.
func Extents(f *os.File, sync bool) (out []FileExtent, err error) {
	const ioctl = 0xC020660B // FS_IOC_FIEMAP
	var ask struct {
		fiemapHead
		extents [256]fiemapExtent
	}
	for start := uint64(0); ; {
		ask.fiemapHead = fiemapHead{start: start, length: ^uint64(0) - start, count: uint32(len(ask.extents))}
		if sync {
			ask.flags = 1 // FIEMAP_FLAG_SYNC
		}
		if _, _, errno := unix.Syscall(unix.SYS_IOCTL, f.Fd(), ioctl, uintptr(unsafe.Pointer(&ask))); errno != 0 {
			return nil, &os.PathError{Op: "ask where it is", Path: f.Name(), Err: errno}
		}
		if ask.mapped == 0 {
			return out, nil
		}
		for _, e := range ask.extents[:min(int(ask.mapped), len(ask.extents))] {
			if e.length == 0 || e.logical+e.length <= start {
				return nil, &os.PathError{Op: "ask where it is", Path: f.Name(), Err: errors.New("the kernel goes in circles")}
			}
			out = append(out, FileExtent{e.logical, e.physical, e.length, e.flags})
			start = e.logical + e.length
			if e.flags&ExtentLast != 0 {
				return out, nil
			}
		}
	}
}

// Pieces is in how many pieces the bytes lie: runs of the device. Neighbours that follow each
// other there are one.
func Pieces(list []FileExtent) (n int) {
	for i, e := range list {
		if i == 0 || list[i-1].Physical+list[i-1].Length != e.Physical || list[i-1].Logical+list[i-1].Length != e.Logical {
			n++
		}
	}
	return n
}
