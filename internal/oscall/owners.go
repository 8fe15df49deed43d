package oscall

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"

	"golang.org/x/sys/unix"
)

// Owner are the numbers of a user and a group.
type Owner struct{ UID, GID uint32 }

// OwnerRun says of files with consecutive inode numbers whose they are and whose they become.
type OwnerRun struct {
	First, Count uint64
	From, To     Owner
}

// OwnerChange is a change of owners that can be taken back.
type OwnerChange struct {
	Runs []OwnerRun // by their numbers
	// Born is when the youngest of them came to be, in nanoseconds; 0 where the file system
	// keeps no such times. One that is younger has the number of a file that is gone.
	Born int64
	Mode *[2]uint32 // of the directory itself, before and after
}

// OwnerCount is what was found on the way.
type OwnerCount struct {
	Files     int // whose owner changes
	Mounts    int // other mounts, which were not entered
	Kept      int // immutable, or only to be added to: the kernel changes no owner there
	Privilege int // programs that run with rights of their own, which would lose them
}

// Reversed is the change that takes this one back.
func (c OwnerChange) Reversed() OwnerChange {
	back := OwnerChange{Runs: slices.Clone(c.Runs), Born: c.Born}
	for i, r := range back.Runs {
		back.Runs[i].From, back.Runs[i].To = r.To, r.From
	}
	if c.Mode != nil {
		back.Mode = &[2]uint32{c.Mode[1], c.Mode[0]}
	}
	return back
}

// Find says whose a file with that number is in the change, and whose it becomes.
func (c OwnerChange) Find(inode uint64) (from, to Owner, ok bool) {
	i, exact := slices.BinarySearchFunc(c.Runs, inode, func(r OwnerRun, n uint64) int { return cmp.Compare(r.First, n) })
	if !exact {
		i--
	}
	if i < 0 || inode-c.Runs[i].First >= c.Runs[i].Count {
		return from, to, false
	}
	return c.Runs[i].From, c.Runs[i].To, true
}

// LookAtOwners goes through a directory, and below it where that is asked, and collects whose
// files are to become another's. Links are not followed and other mounts not entered.
func LookAtOwners(ctx context.Context, dir string, below bool, to func(inode uint64, now Owner) Owner) (c OwnerChange, n OwnerCount, err error) {
	err = goThrough(ctx, dir, below, func(f seen) error {
		wanted := to(f.stat.Ino, f.owner())
		switch {
		case f.elsewhere:
			n.Mounts++
		case wanted == f.owner():
		case f.fixed():
			n.Kept++
		case f.privileged():
			n.Privilege++
		default:
			c.add(f.stat.Ino, f.owner(), wanted)
			c.Born = max(c.Born, f.born())
		}
		return nil
	})
	c.sort()
	for _, r := range c.Runs { // not names: a file can have several
		n.Files += int(r.Count)
	}
	return c, n, err
}

func (c *OwnerChange) add(inode uint64, from, to Owner) {
	if n := len(c.Runs); n > 0 {
		if r := &c.Runs[n-1]; r.First+r.Count == inode && r.From == from && r.To == to {
			r.Count++
			return
		}
	}
	c.Runs = append(c.Runs, OwnerRun{inode, 1, from, to})
}

// sort orders the runs and joins neighbours; a file with several names was met several times.
func (c *OwnerChange) sort() {
	slices.SortFunc(c.Runs, func(a, b OwnerRun) int { return cmp.Compare(a.First, b.First) })
	var out []OwnerRun
	for _, r := range c.Runs {
		if n := len(out); n > 0 {
			last := &out[n-1]
			if had := last.First + last.Count; had > r.First {
				if had >= r.First+r.Count {
					continue
				}
				r.First, r.Count = had, r.First+r.Count-had
			}
			if last.First+last.Count == r.First && last.From == r.From && last.To == r.To {
				last.Count += r.Count
				continue
			}
		}
		out = append(out, r)
	}
	c.Runs = out
}

// Apply gives each file of the change to whom it becomes, where it is still as it was. Those
// that somebody gave to a third one meanwhile are left and counted. It is durable when it
// returns.
func (c OwnerChange) Apply(ctx context.Context, dir string, below bool) (left int, err error) {
	err = goThrough(ctx, dir, below, func(f seen) error {
		from, to, ok := c.Find(f.stat.Ino)
		switch {
		case f.elsewhere || !ok || c.Born > 0 && f.born() > c.Born || f.owner() == to:
			return nil
		case f.owner() != from:
			left++
			return nil
		}
		return f.give(to)
	})
	if err != nil {
		return left, err
	}
	root, err := os.Open(dir)
	if err != nil {
		return left, err
	}
	defer root.Close()
	if c.Mode != nil {
		var st unix.Stat_t
		if err := unix.Fstat(int(root.Fd()), &st); err != nil {
			return left, err
		}
		switch st.Mode & 0o7777 {
		case c.Mode[0]:
			err = unix.Fchmod(int(root.Fd()), c.Mode[1])
		case c.Mode[1]:
		default:
			left++
		}
	}
	return left, errors.Join(err, unix.Syncfs(int(root.Fd())))
}

// ModeOf is the mode of a directory.
func ModeOf(dir string) (uint32, error) {
	var st unix.Stat_t
	err := unix.Stat(dir, &st)
	return st.Mode & 0o7777, err
}

// seen is a file that was come to: held by a descriptor, so that it is the same one whose
// owner is looked at and changed, whatever its name leads to meanwhile.
type seen struct {
	fd        int // opened as a place alone
	name      string
	stat      unix.Statx_t
	elsewhere bool // on another mount
}

func (f seen) owner() Owner { return Owner{f.stat.Uid, f.stat.Gid} }

func (f seen) dir() bool { return f.stat.Mode&unix.S_IFMT == unix.S_IFDIR }

func (f seen) born() int64 {
	if f.stat.Mask&unix.STATX_BTIME == 0 {
		return 0
	}
	return f.stat.Btime.Sec*1e9 + int64(f.stat.Btime.Nsec)
}

func (f seen) fixed() bool {
	return f.stat.Attributes&(unix.STATX_ATTR_IMMUTABLE|unix.STATX_ATTR_APPEND) != 0
}

// privileged reports whether the kernel would take rights away from a program with its owner:
// the bits that make it run as that one, and capabilities.
func (f seen) privileged() bool {
	if f.stat.Mode&unix.S_IFMT != unix.S_IFREG {
		return false
	}
	if f.stat.Mode&(unix.S_ISUID|unix.S_ISGID) != 0 {
		return true
	}
	if f.stat.Mode&0o111 == 0 {
		return false
	}
	_, err := unix.Getxattr(fmt.Sprintf("/proc/self/fd/%d", f.fd), "security.capability", nil)
	return !errors.Is(err, unix.ENODATA) && !errors.Is(err, unix.ENOTSUP)
}

func (f seen) give(to Owner) error {
	err := unix.Fchownat(f.fd, "", int(to.UID), int(to.GID), unix.AT_EMPTY_PATH)
	if err != nil {
		return &os.PathError{Op: "change the owner", Path: f.name, Err: err}
	}
	return nil
}

// goThrough gives a directory and, where that is asked, everything below it. The names in it
// are read once; what came or went meanwhile may be among them or not.
func goThrough(ctx context.Context, dir string, below bool, visit func(seen) error) error {
	fd, err := unix.Open(dir, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return &os.PathError{Op: "open", Path: dir, Err: err}
	}
	root, err := see(fd, dir)
	if err != nil {
		return errors.Join(err, unix.Close(fd))
	}
	if err := visit(root); err != nil || !below {
		return errors.Join(err, unix.Close(fd))
	}
	return inside(ctx, root, root.stat, visit)
}

func see(fd int, name string) (seen, error) {
	f := seen{fd: fd, name: name}
	err := unix.Statx(fd, "", unix.AT_EMPTY_PATH|unix.AT_NO_AUTOMOUNT, unix.STATX_BASIC_STATS|unix.STATX_BTIME|unix.STATX_MNT_ID, &f.stat)
	if err != nil {
		return f, &os.PathError{Op: "look at", Path: name, Err: err}
	}
	return f, nil
}

// inside goes through what lies in a directory. It closes its descriptor: one is held for
// each level of a tree, however deep.
func inside(ctx context.Context, dir seen, root unix.Statx_t, visit func(seen) error) error {
	fd, err := unix.Openat(dir.fd, ".", unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err := errors.Join(err, unix.Close(dir.fd)); err != nil {
		return &os.PathError{Op: "open", Path: dir.name, Err: err}
	}
	d := os.NewFile(uintptr(fd), dir.name)
	defer d.Close()
	for {
		names, err := d.Readdirnames(1024)
		for _, name := range names {
			if err := ctx.Err(); err != nil {
				return err
			}
			if err := one(ctx, fd, name, dir.name+"/"+name, root, visit); err != nil {
				return err
			}
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

func one(ctx context.Context, dir int, name, full string, root unix.Statx_t, visit func(seen) error) error {
	fd, err := unix.Openat(dir, name, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if errors.Is(err, unix.ENOENT) {
		return nil // it went meanwhile
	}
	if err != nil {
		return &os.PathError{Op: "open", Path: full, Err: err}
	}
	f, err := see(fd, full)
	if err == nil {
		f.elsewhere = f.stat.Mnt_id != root.Mnt_id || f.stat.Dev_major != root.Dev_major || f.stat.Dev_minor != root.Dev_minor
		err = visit(f)
	}
	if err != nil || f.elsewhere || !f.dir() {
		return errors.Join(err, unix.Close(fd))
	}
	return inside(ctx, f, root, visit)
}
