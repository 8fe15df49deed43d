package oscall

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"fundus/core/gather"
	"fundus/core/kind"
	"fundus/core/quantity"
)

// Reasons why a file is left as it lies.
var (
	ErrWritten = errors.New("it is being written")
	ErrNoRun   = errors.New("there is no space in fewer pieces")
	ErrRoom    = errors.New("a tenth of the space is never used")
	ErrLeft    = errors.New("the kernel leaves it")
)

// quietFor is how long nobody may have written to a file that is put together by copying it:
// the kernel knows a change by its time, which has steps of a few thousandths of a second.
const quietFor = time.Second

// Together puts a file below a directory together: into room that is set aside first, in a
// file without a name, with which the kernel exchanges it. It gives how the file lies
// afterwards. Whatever ends it, the file has its content; the nameless one is gone with the
// last who has it open.
//
// Sources: fs/ext4/move_extent.c, fs/xfs/xfs_bmap_util.c of Linux.
func Together(ctx context.Context, dir, name string, way kind.Exchange) (after gather.File, err error) {
	t, err := openTogether(dir, name)
	if err != nil {
		return after, err
	}
	defer t.close()
	if after, err = t.lies(); err != nil || after.Pieces <= after.Least {
		return after, err
	}
	if err := t.setAside(after); err != nil {
		return after, err
	}
	if way == kind.Ranges {
		err = t.ranges(ctx)
	} else {
		err = t.whole(ctx)
	}
	if err != nil {
		return after, err
	}
	return t.lies()
}

// together is a file, and the nameless one beside it.
type together struct {
	file, room *os.File
	list       []FileExtent // of the file, up to its end
	block      int64
	stat       unix.Stat_t
}

func (t *together) close() {
	t.file.Close()
	if t.room != nil {
		t.room.Close()
	}
}

func openTogether(dir, name string) (*together, error) {
	top, err := unix.Open(dir, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: dir, Err: err}
	}
	defer unix.Close(top)
	open := func(name string, flags uint64) (*os.File, error) {
		fd, err := unix.Openat2(top, name, &unix.OpenHow{
			Flags:   flags | unix.O_CLOEXEC,
			Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS | unix.RESOLVE_NO_XDEV,
		})
		if err != nil {
			return nil, &fs.PathError{Op: "open", Path: path.Join(dir, name), Err: err}
		}
		return os.NewFile(uintptr(fd), path.Join(dir, name)), nil
	}
	t := &together{}
	if t.file, err = open(name, unix.O_RDWR|unix.O_NOATIME|unix.O_NONBLOCK); errors.Is(err, unix.ETXTBSY) {
		return nil, fmt.Errorf("%w: it is running, or swapped on", ErrLeft)
	} else if err != nil {
		return nil, err
	}
	parent, err := open(path.Dir(name), unix.O_RDONLY|unix.O_DIRECTORY)
	if err == nil {
		err = t.beside(parent)
		parent.Close()
	}
	if err != nil {
		t.close()
	}
	return t, err
}

// beside makes the nameless file. It belongs to whom the file belongs to, whose quota is
// asked.
func (t *together) beside(parent *os.File) error {
	var kept unix.Statfs_t
	if err := errors.Join(unix.Fstat(int(t.file.Fd()), &t.stat), unix.Fstatfs(int(t.file.Fd()), &kept)); err != nil {
		return err
	}
	t.block = kept.Bsize
	fd, err := unix.Openat(int(parent.Fd()), ".", unix.O_TMPFILE|unix.O_RDWR|unix.O_CLOEXEC, 0o600)
	if err != nil {
		return &fs.PathError{Op: "reserve space in", Path: parent.Name(), Err: err}
	}
	t.room = os.NewFile(uintptr(fd), t.file.Name()+" (space)")
	return unix.Fchown(fd, int(t.stat.Uid), int(t.stat.Gid))
}

// lies asks how the file lies, with all that was written so far in its place.
func (t *together) lies() (gather.File, error) {
	list, err := Extents(t.file, true)
	if err == nil {
		err = unix.Fstat(int(t.file.Fd()), &t.stat)
	}
	t.list = within(list, t.stat.Size)
	return howItLies(list, t.stat.Size), err
}

// runs are the parts of the file between holes, in whole blocks.
func (t *together) runs() (out [][2]int64) {
	for _, e := range t.list {
		from, to := int64(e.Logical), int64(e.Logical+e.Length)
		if n := len(out); n > 0 && out[n-1][1] == from {
			out[n-1][1] = to
			continue
		}
		out = append(out, [2]int64{from, to})
	}
	return out
}

// setAside gives the nameless file room for each part, and refuses where that would leave too
// little, or lies in as many pieces.
func (t *together) setAside(f gather.File) error {
	var kept unix.Statfs_t
	if err := unix.Fstatfs(int(t.file.Fd()), &kept); err != nil {
		return err
	}
	if free, total := kept.Bavail*uint64(kept.Bsize), kept.Blocks*uint64(kept.Bsize); !f.Fits(quantity.Bytes(free), quantity.Bytes(total)) {
		return ErrRoom
	}
	for _, r := range t.runs() {
		if err := unix.Fallocate(int(t.room.Fd()), 0, r[0], r[1]-r[0]); errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EDQUOT) {
			return ErrRoom
		} else if err != nil {
			return &fs.PathError{Op: "reserve space for", Path: t.file.Name(), Err: err}
		}
	}
	list, err := Extents(t.room, true)
	if err == nil && Pieces(list) >= f.Pieces {
		err = ErrNoRun
	}
	return err
}

// ranges exchanges part by part, while others read and write: the kernel takes each page by
// itself.
func (t *together) ranges(ctx context.Context) error {
	const most = 16 << 20 // between two looks at whether to go on
	for _, r := range t.runs() {
		for at, busy := r[0]/t.block, 0; at < r[1]/t.block; {
			if err := ctx.Err(); err != nil {
				return err
			}
			move := struct {
				_, room               uint32
				from, to, blocks, got uint64
			}{room: uint32(t.room.Fd()), from: uint64(at), to: uint64(at), blocks: uint64(min(r[1]/t.block-at, most/t.block))}
			const ioctl = 0xC028660F // EXT4_IOC_MOVE_EXT
			_, _, errno := unix.Syscall(unix.SYS_IOCTL, t.file.Fd(), ioctl, uintptr(unsafe.Pointer(&move)))
			at += int64(move.got)
			switch {
			case errno == 0 && move.got > 0:
				busy = 0
			case errno == 0, errno == unix.ENODATA: // it became shorter meanwhile
				return nil
			case (errno == unix.EBUSY || errno == unix.EAGAIN) && busy < 10:
				busy++
				time.Sleep(10 * time.Millisecond)
			case errno == unix.EBUSY || errno == unix.EAGAIN:
				return ErrWritten
			default:
				return exchangeError(t.file.Name(), errno)
			}
		}
	}
	return nil
}

// exchangeError tells what the kernel has against one file from what it never does here.
func exchangeError(name string, errno unix.Errno) error {
	switch errno {
	case unix.ENOSPC, unix.EDQUOT:
		return ErrRoom
	case unix.EINVAL, unix.EPERM, unix.ETXTBSY:
		return fmt.Errorf("%w: %w", ErrLeft, errno)
	}
	return &fs.PathError{Op: "exchange", Path: name, Err: errno}
}

// whole exchanges the file with a copy of it, where nobody changed it meanwhile. Pages that
// are mapped are written back before the copy, so that a store to one of them is a change that
// has a time.
func (t *together) whole(ctx context.Context) error {
	swap := struct {
		version, file, room, from, bytes int64
		_                                [16]byte
		stat                             [136]byte
	}{file: int64(t.file.Fd()), room: int64(t.room.Fd())}
	if err := bulkStat(t.file, t.stat.Ino, swap.stat[:]); err != nil {
		return err
	}
	var now unix.Stat_t
	if err := unix.Fstat(int(t.file.Fd()), &now); err != nil {
		return err
	}
	last := max(now.Mtim.Nano(), now.Ctim.Nano())
	if time.Now().UnixNano()-last < int64(quietFor) {
		return ErrWritten
	}
	if err := t.file.Sync(); err != nil {
		return err
	}
	if _, err := t.lies(); err != nil { // anew: what was known is older than the time that the kernel compares
		return err
	}
	swap.bytes = t.stat.Size
	if err := t.copy(ctx); err != nil {
		return err
	}
	const ioctl = 0xC0C0586D // XFS_IOC_SWAPEXT
	switch _, _, errno := unix.Syscall(unix.SYS_IOCTL, t.file.Fd(), ioctl, uintptr(unsafe.Pointer(&swap))); errno {
	case 0:
		return nil
	case unix.EBUSY, unix.EFAULT: // it was changed, or has another length
		return ErrWritten
	default:
		return exchangeError(t.file.Name(), errno)
	}
}

// bulkStat asks for what the kernel compares before it exchanges.
func bulkStat(f *os.File, inode uint64, into []byte) error {
	count := int32(0)
	ask := struct {
		inode unsafe.Pointer
		count int32
		into  unsafe.Pointer
		got   unsafe.Pointer
	}{unsafe.Pointer(&inode), 1, unsafe.Pointer(&into[0]), unsafe.Pointer(&count)}
	const ioctl = 0xC0205866 // XFS_IOC_FSBULKSTAT_SINGLE
	if _, _, errno := unix.Syscall(unix.SYS_IOCTL, f.Fd(), ioctl, uintptr(unsafe.Pointer(&ask))); errno != 0 {
		return &fs.PathError{Op: "ask about", Path: f.Name(), Err: errno}
	}
	return nil
}

// copy fills the nameless file: what has bytes, and not what is set aside for later.
func (t *together) copy(ctx context.Context) error {
	buf := make([]byte, 1<<20)
	for _, e := range t.list {
		if e.Flags&ExtentUnwritten != 0 {
			continue
		}
		end := min(int64(e.Logical+e.Length), t.stat.Size)
		for at := int64(e.Logical); at < end; {
			if err := ctx.Err(); err != nil {
				return err
			}
			n, err := t.file.ReadAt(buf[:min(int64(len(buf)), end-at)], at)
			if n == 0 {
				return ErrWritten // it became shorter, or reads no more
			}
			if _, errWrite := t.room.WriteAt(buf[:n], at); errWrite != nil {
				return errors.Join(err, errWrite)
			}
			at += int64(n)
		}
	}
	return errors.Join(t.room.Truncate(t.stat.Size), t.room.Sync())
}

// Gone reports whether an error says that a file is not there any more.
func Gone(err error) bool { return errors.Is(err, fs.ErrNotExist) || errors.Is(err, unix.ENXIO) }
