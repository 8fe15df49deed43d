package main

import (
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"unsafe"

	"github.com/google/uuid"
	"golang.org/x/sys/unix"

	"fundus/core/block"
	"fundus/core/block/file"
	corexfs "fundus/core/fs/xfs"
)

// Requests of a mounted XFS (fs/xfs/libxfs/xfs_fs.h of Linux).
const (
	xfsScrub    = 3<<30 | 64<<16 | 'X'<<8 | 60
	xfsGeometry = 2<<30 | 112<<16 | 'X'<<8 | 100
	xfsGrow     = 1<<30 | 16<<16 | 'X'<<8 | 110
	xfsCut      = 2<<30 | 4<<16 | 'X'<<8 | 125
)

// xfs is DEVICE [fill] [grow=BLOCKS] [cut] [again]: what the kernel makes of a new XFS.
//
// It is mounted, a tree is written, it is unmounted, mounted again and read back; the kernel
// goes through each of its structures; it is filled and emptied, grown, and cut off from its
// device; and after each of that it is mounted again.
func xfs(words []string) string {
	x := newXFSProof(words[0])
	x.mount()
	first := x.statfs()
	x.tree()
	x.again()
	if len(x.wrong) > 0 {
		return "wrong: " + strings.Join(x.wrong, "; ")
	}
	x.read()
	x.scrub()
	for _, word := range words[1:] {
		blocks, grows := strings.CutPrefix(word, "grow=")
		switch {
		case word == "fill":
			x.fill()
		case word == "cut":
			x.recount()
		case grows:
			x.grow(blocks)
		}
		x.again()
		x.read()
		x.scrub()
	}
	x.check("unmount", syscall.Unmount("/mnt", 0))
	how := "scrubbed"
	if x.lacking {
		how = "not scrubbed"
	}
	return fmt.Sprintf("%d of %d free, %d bytes, %s; wrong: %s", first.Bfree, first.Blocks, first.Bsize, how, strings.Join(x.wrong, "; "))
}

func newXFSProof(device string) *xfsProof {
	return &xfsProof{usedProof: usedProof{device: device, typ: "xfs"}}
}

type xfsProof struct {
	usedProof
	lacking bool // the kernel goes through nothing
}

// ask makes a request of the file system at the path.
func ask(path string, request uintptr, argument []byte) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	if _, _, errno := syscall.Syscall(syscall.SYS_IOCTL, f.Fd(), request, uintptr(unsafe.Pointer(&argument[0]))); errno != 0 {
		return errno
	}
	return nil
}

// scrub has the kernel go through the headers and trees of each group, the counts, and all
// that hangs on each file.
func (x *xfsProof) scrub() {
	if err := x.scrubbed("/mnt", 0, 0); errors.Is(err, syscall.EOPNOTSUPP) || errors.Is(err, syscall.ENOTTY) {
		x.lacking = true
		return
	}
	geometry := make([]byte, 112)
	x.check("geometry", ask("/mnt", xfsGeometry, geometry))
	groups := binary.LittleEndian.Uint32(geometry[12:])
	for group := range groups {
		for kind := uint32(1); kind <= 10; kind++ {
			x.check(fmt.Sprintf("scrub of %d in group %d", kind, group), x.scrubbed("/mnt", kind, group))
		}
	}
	x.check("scrub of counts", x.scrubbed("/mnt", 24, 0))
	for _, kind := range []uint32{19, 20} {
		x.check("scrub of the realtime part", x.scrubbed("/mnt", kind, 0))
	}
	paths := []string{"/mnt"}
	for i := range x.files {
		paths = append(paths, filepath.Dir(name(i)), name(i))
	}
	slices.Sort(paths)
	for i, path := range slices.Compact(paths) {
		if info, err := os.Stat(path); err == nil && (info.IsDir() || i%10 == 0) {
			for kind := uint32(11); kind <= 18; kind++ {
				x.check(fmt.Sprintf("scrub of %d at %s", kind, path), x.scrubbed(path, kind, 0))
			}
		}
	}
}

// scrubbed is one request, about a structure of the whole, of a group, or of the file.
func (x *xfsProof) scrubbed(path string, kind, group uint32) error {
	b := make([]byte, 64)
	le := binary.LittleEndian
	le.PutUint32(b, kind)
	le.PutUint32(b[20:], group)
	err := ask(path, xfsScrub, b)
	if kind > 0 && (errors.Is(err, syscall.ENOENT) || errors.Is(err, syscall.EINVAL) && kind >= 15 && kind <= 18) {
		return nil // there is no such thing here
	}
	if flags := le.Uint32(b[4:]); err == nil && flags&0x7E != 0 {
		return fmt.Errorf("flags %#x", flags)
	}
	return err
}

func (x *xfsProof) grow(blocks string) {
	geometry := make([]byte, 112)
	x.check("geometry", ask("/mnt", xfsGeometry, geometry))
	argument := make([]byte, 16)
	var n uint64
	_, err := fmt.Sscan(blocks, &n)
	binary.LittleEndian.PutUint64(argument, n)
	copy(argument[8:], geometry[28:32]) // the share of inodes as it is
	x.check("growth", errors.Join(err, ask("/mnt", xfsGrow, argument)))
	x.check("geometry", ask("/mnt", xfsGeometry, geometry))
	if got := binary.LittleEndian.Uint64(geometry[32:]); got != n {
		x.wrong = append(x.wrong, fmt.Sprintf("grown to %d blocks instead of %d", got, n))
	}
}

// onlineXFS is DEVICE BLOCKS: grown while it is mounted, to what the kernel makes of that; after
// another mount it is counted, and scrubbed where the kernel can.
func onlineXFS(words []string) string {
	x := newXFSProof(words[0])
	x.mount()
	geometry, argument := make([]byte, 112), make([]byte, 16)
	x.check("geometry", ask("/mnt", xfsGeometry, geometry))
	n, err := strconv.ParseUint(words[1], 10, 64)
	binary.LittleEndian.PutUint64(argument, n)
	copy(argument[8:], geometry[28:32]) // the share of inodes as it is
	x.check("blocks", err)
	refused := ask("/mnt", xfsGrow, argument)
	x.again()
	x.scrub()
	x.check("geometry", ask("/mnt", xfsGeometry, geometry))
	x.check("unmount", unix.Unmount("/mnt", 0))
	le := binary.LittleEndian
	return fmt.Sprintf("%d blocks, %d groups%s; wrong: %s", le.Uint64(geometry[32:]), le.Uint32(geometry[12:]),
		fine(refused), strings.Join(x.wrong, "; "))
}

// recount changes what takes no space, cuts the device off, and mounts anew: then the kernel
// counts what is free in each group, instead of believing the superblock.
func (x *xfsProof) recount() {
	x.again()
	before := x.statfs()
	x.check("chmod", os.Chmod("/mnt", 0o711))
	f, err := os.Open("/mnt")
	if err == nil {
		err = f.Sync()
		f.Close()
	}
	x.check("sync", err)
	x.check("cut", ask("/mnt", xfsCut, []byte{1, 0, 0, 0})) // the log is written out, nothing else
	x.again()
	if after := x.statfs(); after.Bfree != before.Bfree || after.Ffree != before.Ffree {
		x.wrong = append(x.wrong, fmt.Sprintf("the superblock says %d free, the groups %d", before.Bfree, after.Bfree))
	}
	x.check("chmod", os.Chmod("/mnt", 0o755))
}

// fills is DEVICE N: the file system is mounted and used; then N directories are made, and it
// is cut off from its device when they stand in the log alone.
func fills(words []string) string {
	x := newXFSProof(words[0])
	x.mount()
	x.tree()
	x.again()
	for _, path := range later(words[1]) {
		x.check("directory", os.MkdirAll(filepath.Dir(path), 0o755))
		x.check("write", os.WriteFile(path, []byte(path), 0o644))
	}
	f, err := os.Open("/mnt")
	if err == nil {
		err = errors.Join(unix.Syncfs(int(f.Fd())), f.Close())
	}
	x.check("sync", err)
	x.check("cut", ask("/mnt", xfsCut, []byte{1, 0, 0, 0}))
	x.check("unmount", syscall.Unmount("/mnt", 0))
	return "wrong: " + strings.Join(x.wrong, "; ")
}

// later are the files of N directories.
func later(count string) (paths []string) {
	n, _ := strconv.Atoi(count)
	for i := range n {
		for k := range 30 {
			paths = append(paths, fmt.Sprintf("/mnt/later%d/a sheet with a long name %d", i, k))
		}
	}
	return paths
}

// reads is DEVICE N: what fills wrote is read and gone through, after a mount and another.
func reads(words []string) string {
	x := newXFSProof(words[0])
	x.files = 150
	x.mount()
	for range 2 {
		x.read()
		for _, path := range later(words[1]) {
			data, err := os.ReadFile(path)
			x.check("read", err)
			if string(data) != path {
				x.wrong = append(x.wrong, path+" is not what was written")
			}
		}
		x.scrub()
		x.again()
	}
	for _, path := range later(words[1]) {
		x.check("remove", os.Remove(path))
	}
	x.check("unmount", syscall.Unmount("/mnt", 0))
	return "wrong: " + strings.Join(x.wrong, "; ")
}

// newUUID is DEVICE UUID: the file system gets another identifier, by core's own call.
func newUUID(words []string) string {
	dev, err := file.Open(words[0], true, block.DefaultGeometry)
	if err != nil {
		return err.Error()
	}
	err = errors.Join(corexfs.SetUUID(dev, uuid.MustParse(words[1])), dev.Sync(), dev.Close())
	return "changed" + fine(err)
}
