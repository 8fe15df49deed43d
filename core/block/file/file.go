// Package file opens image files and block devices as block.Device.
//
// An image stays sparse: zeroing punches holes. A block device is zeroed by
// the kernel's zero-out request, which never unmaps on our behalf beyond what
// keeps the range reading as zeros. Reading back past the page cache uses
// direct I/O, or drops the clean pages where that cannot be had.
//
// Source of the requests: linux/fs.h and the manual pages of fallocate(2),
// lseek(2), posix_fadvise(2) and open(2).
package file

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"sync"
	"unsafe"

	"golang.org/x/sys/unix"

	"fundus/core/block"
)

// Errors of opening and locking.
var (
	ErrKind   = errors.New("neither a regular file nor a block device")
	ErrLocked = errors.New("locked by another process")
	ErrSize   = errors.New("its size is not a multiple of its sectors")
)

// File is an image file or a block device.
type File struct {
	f        *os.File
	path     string
	size     int64
	geo      block.Geometry
	isDevice bool
	writable bool
	once     sync.Once
	direct   *os.File // for reading back, nil where that cannot be had
}

var _ block.Device = (*File)(nil)

// OpenExclusive opens a block device for writing, and fails with EBUSY while
// anybody else has claimed it: a mount, swap, or a device built on it.
func OpenExclusive(path string, geo block.Geometry) (*File, error) {
	return open(path, os.O_RDWR|unix.O_EXCL, true, geo)
}

// Open opens the path. For an image the geometry is as given; a block device
// is asked for its own.
func Open(path string, write bool, geo block.Geometry) (*File, error) {
	mode := os.O_RDONLY
	if write {
		mode = os.O_RDWR
	}
	return open(path, mode, write, geo)
}

func open(path string, mode int, write bool, geo block.Geometry) (*File, error) {
	f, err := os.OpenFile(path, mode|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	d := &File{f: f, path: path, geo: geo, writable: write}
	if err := d.measure(); err != nil {
		f.Close()
		return nil, err
	}
	return d, nil
}

func (d *File) measure() error {
	info, err := d.f.Stat()
	if err != nil {
		return err
	}
	switch {
	case info.Mode().IsRegular():
		d.size = info.Size()
	case info.Mode()&fs.ModeDevice != 0 && info.Mode()&fs.ModeCharDevice == 0:
		d.isDevice = true
		if d.size, err = d.f.Seek(0, io.SeekEnd); err != nil {
			return err
		}
		d.askGeometry()
	default:
		return fmt.Errorf("%s: %w", d.path, ErrKind)
	}
	if d.size%max(d.geo.Logical, 1) != 0 {
		if d.writable {
			return fmt.Errorf("%s: %w: %d bytes, sectors of %d; it can be looked at, and not changed", d.path, ErrSize, d.size, d.geo.Logical)
		}
		d.size -= d.size % d.geo.Logical // what is behind the last sector is in no disk
	}
	return nil
}

// askGeometry asks the kernel; what it does not say stays as given.
func (d *File) askGeometry() {
	fd := int(d.f.Fd())
	for _, q := range []struct {
		request uint
		into    *int64
	}{
		{unix.BLKSSZGET, &d.geo.Logical}, {unix.BLKPBSZGET, &d.geo.Physical},
		{unix.BLKIOMIN, &d.geo.MinIO}, {unix.BLKIOOPT, &d.geo.OptIO}, {unix.BLKALIGNOFF, &d.geo.Offset},
	} {
		if v, err := unix.IoctlGetInt(fd, q.request); err == nil {
			*q.into = int64(v)
		}
	}
}

// Create makes a sparse image of the given size; an existing file is refused.
func Create(path string, size int64) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	return errors.Join(f.Truncate(size), f.Sync(), f.Close())
}

// Lock takes the whole file for this process: the BSD lock that systemd's
// convention asks for, and for an image an open-file-description lock as well.
// It does not wait; ErrLocked says that somebody else has it.
func (d *File) Lock() error {
	fd := d.f.Fd()
	if err := unix.Flock(int(fd), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		if errors.Is(err, unix.EWOULDBLOCK) {
			return fmt.Errorf("%s: %w", d.path, ErrLocked)
		}
		return fmt.Errorf("%s: lock: %w", d.path, err)
	}
	if d.isDevice || !d.writable {
		return nil
	}
	lock := unix.Flock_t{Type: unix.F_WRLCK, Whence: io.SeekStart}
	if err := unix.FcntlFlock(fd, unix.F_OFD_SETLK, &lock); err != nil {
		if errors.Is(err, unix.EAGAIN) || errors.Is(err, unix.EACCES) {
			return fmt.Errorf("%s: %w", d.path, ErrLocked)
		}
		return fmt.Errorf("%s: lock: %w", d.path, err)
	}
	return nil
}

// Refresh drops the clean pages that the kernel keeps of a device: what somebody
// wrote through another device over the same bytes is not in them.
func (d *File) Refresh() error { return unix.Fadvise(int(d.f.Fd()), 0, 0, unix.FADV_DONTNEED) }

// ReadAt reads from the file.
func (d *File) ReadAt(p []byte, off int64) (int, error) { return d.f.ReadAt(p, off) }

// WriteAt writes inside the file or refuses; it never makes it longer.
func (d *File) WriteAt(p []byte, off int64) (int, error) {
	if err := block.CheckAccess(d, "write", off, int64(len(p))); err != nil {
		return 0, err
	}
	return d.f.WriteAt(p, off)
}

// WriteZeroes punches a hole into an image and has a block device zeroed;
// where neither is possible it writes zeros.
func (d *File) WriteZeroes(off, n int64) error {
	if err := block.CheckAccess(d, "zero", off, n); err != nil || n == 0 {
		return err
	}
	if d.isDevice {
		return d.zeroDevice(off, n)
	}
	err := unix.Fallocate(int(d.f.Fd()), unix.FALLOC_FL_PUNCH_HOLE|unix.FALLOC_FL_KEEP_SIZE, off, n)
	if cannotZero(err) {
		return d.writePlainZeros(off, n)
	}
	if err != nil {
		return &block.AccessError{Op: "zero", Off: off, N: n, Err: err}
	}
	return nil
}

// zeroDevice has the device zero whole pages, and writes zeros into the rest.
//
// The kernel zeroes past its page cache and takes the pages out of that before. Where another
// node of the disk is held, such as that of a partition, it refuses to with a page that is not
// written yet, and a page that is zeroed in part may hold what was just written beside it. A
// small span is not worth that.
//
// Source: blk_ioctl_zeroout in block/ioctl.c, truncate_bdev_range in block/bdev.c.
func (d *File) zeroDevice(off, n int64) error {
	from, until := pagesWithin(off, n, int64(os.Getpagesize()))
	if until-from < leastZeroed {
		return d.writePlainZeros(off, n)
	}
	if err := errors.Join(d.writePlainZeros(off, from-off), d.writePlainZeros(until, off+n-until)); err != nil {
		return err
	}
	span := [2]uint64{uint64(from), uint64(until - from)}
	_, _, errno := unix.Syscall(unix.SYS_IOCTL, d.f.Fd(), unix.BLKZEROOUT, uintptr(unsafe.Pointer(&span)))
	switch {
	case errno == 0:
		return nil
	case cannotZero(errno) || errors.Is(errno, unix.EBUSY):
		return d.writePlainZeros(from, until-from)
	}
	return &block.AccessError{Op: "zero", Off: from, N: until - from, Err: errno}
}

// leastZeroed is the least that a device is asked to zero by itself.
const leastZeroed = 1 << 20

// pagesWithin are the whole pages of a span, from one byte until another; from is not below off,
// nor until above its end, where there is none.
func pagesWithin(off, n, page int64) (from, until int64) {
	from, until = (off+page-1)/page*page, (off+n)/page*page
	if from > until {
		return off, off
	}
	return from, until
}

// cannotZero reports whether the system has no such call for this file.
func cannotZero(err error) bool {
	return errors.Is(err, unix.EOPNOTSUPP) || errors.Is(err, unix.ENOTTY) || errors.Is(err, unix.EINVAL)
}

// Discard tells a block device that nobody needs the bytes, which read as anything then; an
// image gets a hole. It changes what no one can bring back.
func (d *File) Discard(off, n int64) error {
	if !d.isDevice {
		return d.WriteZeroes(off, n)
	}
	if err := block.CheckAccess(d, "discard", off, n); err != nil || n == 0 {
		return err
	}
	span := [2]uint64{uint64(off), uint64(n)}
	discard := func() unix.Errno {
		_, _, errno := unix.Syscall(unix.SYS_IOCTL, d.f.Fd(), unix.BLKDISCARD, uintptr(unsafe.Pointer(&span)))
		return errno
	}
	errno := discard()
	if errors.Is(errno, unix.EBUSY) && d.f.Sync() == nil { // by a page that is not written yet, as in zeroDevice
		errno = discard()
	}
	if errno != 0 {
		return &block.AccessError{Op: "discard", Off: off, N: n, Err: errno}
	}
	return nil
}

func (d *File) writePlainZeros(off, n int64) error {
	zeros := make([]byte, min(n, 1<<20))
	for n > 0 {
		k := min(n, int64(len(zeros)))
		if _, err := d.f.WriteAt(zeros[:k], off); err != nil {
			return err
		}
		off, n = off+k, n-k
	}
	return nil
}

// Next asks the file system of an image for its holes; a block device is one
// run of data.
func (d *File) Next(off int64) (start, end int64, hole bool, err error) {
	if off >= d.size {
		return 0, 0, false, io.EOF
	}
	if d.isDevice {
		return 0, d.size, false, nil
	}
	fd := int(d.f.Fd())
	data, err := unix.Seek(fd, off, unix.SEEK_DATA)
	switch {
	case errors.Is(err, unix.ENXIO):
		return off, d.size, true, nil
	case err != nil:
		return 0, d.size, false, nil // no such query here: one run of data
	case data > off:
		return off, min(data, d.size), true, nil
	}
	gap, err := unix.Seek(fd, off, unix.SEEK_HOLE)
	if err != nil {
		return 0, d.size, false, nil
	}
	return off, min(gap, d.size), false, nil
}

// ReadBack reads what the medium holds, past the page cache. Offset and length
// are multiples of 4096, or the read goes to the end. It reports false where
// direct I/O cannot be had and the clean pages were dropped instead. Call Sync
// first. Several calls may be under way together.
func (d *File) ReadBack(p []byte, off int64) (direct bool, err error) {
	d.once.Do(d.openDirect)
	if d.direct != nil {
		if _, err := d.direct.ReadAt(p, off); err == nil {
			return true, nil
		}
	}
	if err := unix.Fadvise(int(d.f.Fd()), off, int64(len(p)), unix.FADV_DONTNEED); err != nil {
		return false, err
	}
	return false, block.ReadFull(d.f, p, off)
}

// openDirect opens the same file again for direct I/O; a path that was replaced
// while it was open is not taken for it.
func (d *File) openDirect() {
	direct, err := os.OpenFile(d.path, os.O_RDONLY|unix.O_DIRECT|unix.O_CLOEXEC, 0)
	if err != nil {
		return
	}
	a, errA := d.f.Stat()
	b, errB := direct.Stat()
	if errA != nil || errB != nil || !os.SameFile(a, b) {
		direct.Close()
		return
	}
	d.direct = direct
}

// AlignedBuffer is a buffer whose address suits direct I/O.
func AlignedBuffer(n int) []byte {
	const align = 4096
	buf := make([]byte, n+align)
	skip := int(align-uintptr(unsafe.Pointer(&buf[0]))%align) % align
	return buf[skip : skip+n]
}

// Path is what was opened.
func (d *File) Path() string { return d.path }

// Size in bytes.
func (d *File) Size() int64 { return d.size }

// Geometry as given, or as the kernel says.
func (d *File) Geometry() block.Geometry { return d.geo }

// Sync makes what was written durable.
func (d *File) Sync() error {
	if !d.writable {
		return nil
	}
	return unix.Fdatasync(int(d.f.Fd()))
}

// Close releases the locks with the file.
func (d *File) Close() error {
	if d.direct != nil {
		d.direct.Close()
	}
	return d.f.Close()
}
