package main

import (
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"unsafe"

	"fundus/core/block"
	"fundus/core/block/file"
	corext "fundus/core/fs/ext"
	"fundus/core/quantity"
)

// online is DEVICE TYPE BLOCKS: what the kernel makes of it while it is mounted.
func online(words []string) string {
	x := &usedProof{device: words[0], typ: words[1]}
	x.mount()
	x.grow(words[2])
	x.check("unmount", syscall.Unmount("/mnt", 0))
	dev, err := file.Open(words[0], false, block.DefaultGeometry)
	if err != nil {
		return err.Error()
	}
	defer dev.Close()
	s, err := corext.Read(dev)
	if err != nil {
		return err.Error()
	}
	return fmt.Sprintf("%d blocks, %d inodes, %d groups; wrong: %s", s.Blocks, s.Inodes, s.Groups(), strings.Join(x.wrong, "; "))
}

// ext is DEVICE TYPE [had] [fill] [copies] [as=TYPE] [grow=BLOCKS]: what the kernel makes of a new
// ext2, ext3 or ext4.
//
// Each copy of the superblock is mounted by its place; then it is mounted by its type, a tree
// is written, it is unmounted, mounted again and read back; mounted as another type; filled
// and emptied, in space and in inodes; and grown.
func ext(words []string) string {
	x := &usedProof{device: words[0], typ: words[1]}
	for _, word := range words[2:] {
		if word == "copies" {
			x.check("copies", copies(words[0]))
		}
		if typ, not := strings.CutPrefix(word, "not="); not {
			if said := mountAs([]string{typ, strings.TrimPrefix(words[0], "/dev/")}); !strings.HasPrefix(said, "invalid argument") {
				x.wrong = append(x.wrong, typ+": "+said)
			}
		}
	}
	x.mount()
	first := x.statfs()
	if slices.Contains(words, "had") { // a tree, before the file system became another
		x.files = min(count(), 150)
		x.read()
	}
	x.tree()
	x.again()
	if len(x.wrong) > 0 {
		return "wrong: " + strings.Join(x.wrong, "; ")
	}
	x.read()
	for _, word := range words[2:] {
		blocks, grows := strings.CutPrefix(word, "grow=")
		typ, as := strings.CutPrefix(word, "as=")
		switch {
		case word == "fill":
			x.fill()
			x.fillInodes()
		case as:
			x.typ = typ
		case grows:
			x.grow(blocks)
		}
		x.again()
		x.read()
	}
	x.check("unmount", syscall.Unmount("/mnt", 0))
	state := "left in order"
	if err := left(words[0]); err != nil {
		state = err.Error()
	}
	return fmt.Sprintf("%d free, %d inodes, %d of them free, %d bytes, %s; wrong: %s", first.Bfree, first.Files,
		first.Ffree, first.Bsize, state, strings.Join(x.wrong, "; "))
}

// left is an error where the superblock does not say that it was unmounted without one.
func left(device string) error {
	dev, err := file.Open(device, false, block.DefaultGeometry)
	if err != nil {
		return err
	}
	defer dev.Close()
	c, err := corext.Probe(dev)
	if err != nil || c == nil {
		return fmt.Errorf("not recognised: %w", err)
	}
	if c.State != "in order" {
		return errors.New(string(c.State))
	}
	return nil
}

// copies mounts by each copy of the superblock, which stands at a place in units of 1 KiB,
// and looks at the topmost directory.
func copies(device string) error {
	dev, err := file.Open(device, false, block.DefaultGeometry)
	if err != nil {
		return err
	}
	s, err := corext.Read(dev)
	firstMeta, errMeta := block.ReadSized(dev, 1024+0x104, 4, 4)
	if err := errors.Join(err, errMeta, dev.Close()); err != nil {
		return err
	}
	const metaGroups = 0x10 // from the first of them on a copy has no descriptors behind it
	perDesc := uint64(s.BlockSize) / map[bool]uint64{true: 64, false: 32}[s.Incompat&0x80 != 0]
	for _, at := range s.Backups() {
		if s.Incompat&metaGroups != 0 &&
			(at-s.FirstData)/uint64(s.BlocksPerGroup)/perDesc >= uint64(binary.LittleEndian.Uint32(firstMeta)) {
			continue
		}
		options := fmt.Sprintf("sb=%d", quantity.Bytes(at)*s.BlockSize/1024)
		if err := orphanOf(device, int64(at)*int64(s.BlockSize)); err != nil {
			return err
		}
		if err := syscall.Mount(device, "/mnt", "ext4", syscall.MS_RDONLY, options); err != nil {
			return fmt.Errorf("%s: %w", options, err)
		}
		_, err := os.Stat("/mnt/lost+found")
		if err := errors.Join(err, syscall.Unmount("/mnt", 0)); err != nil {
			return fmt.Errorf("%s: %w", options, err)
		}
	}
	return nil
}

// orphanOf tells the kernel's log of an orphan that a copy of the superblock lists, before it is
// mounted by: what the kernel says then is about that.
func orphanOf(device string, at int64) error {
	const lastOrphan = 0xE8 // s_last_orphan
	f, err := os.Open(device)
	if err != nil {
		return err
	}
	defer f.Close()
	b := make([]byte, 4)
	if _, err := f.ReadAt(b, at+lastOrphan); err != nil {
		return err
	}
	if n := binary.LittleEndian.Uint32(b); n != 0 {
		return os.WriteFile("/dev/kmsg", fmt.Appendf(nil, "a copy lists the orphan %d", n), 0)
	}
	return nil
}

// fillInodes makes files until there are no more inodes, or no room for their names, and takes
// them away again; of so many that it takes too long a part.
func (x *usedProof) fillInodes() {
	before := x.statfs()
	x.check("directory", os.Mkdir("/mnt/empty", 0o755))
	made := uint64(0)
	for ; made < min(before.Ffree, 15000); made++ {
		f, err := os.Create(fmt.Sprintf("/mnt/empty/%d", made))
		if err != nil {
			if !errors.Is(err, syscall.ENOSPC) {
				x.check("an empty file", err)
			}
			break
		}
		f.Close()
	}
	x.again()
	if now := x.statfs(); now.Ffree+made+1 != before.Ffree {
		x.wrong = append(x.wrong, fmt.Sprintf("%d inodes free, %d were made: now %d", before.Ffree, made+1, now.Ffree))
	}
	for i := range made {
		x.check("remove", os.Remove(filepath.Join("/mnt/empty", fmt.Sprint(i))))
	}
	x.check("remove", os.Remove("/mnt/empty"))
}

// grow has the kernel give it so many blocks, while it is mounted.
func (x *usedProof) grow(blocks string) {
	var n uint64
	if _, err := fmt.Sscan(blocks, &n); err != nil {
		x.check("growth", err)
		return
	}
	before := x.statfs()
	f, err := os.Open("/mnt")
	if err != nil {
		x.check("growth", err)
		return
	}
	defer f.Close()
	if _, _, errno := syscall.Syscall(syscall.SYS_IOCTL, f.Fd(), resizeFS, uintptr(unsafe.Pointer(&n))); errno != 0 {
		x.check("growth to "+blocks, errno)
	}
	if after := x.statfs(); after.Bfree <= before.Bfree {
		x.wrong = append(x.wrong, fmt.Sprintf("grown to %s blocks: free were %d, are %d", blocks, before.Bfree, after.Bfree))
	}
}

// entries is DIR N [read]: N files in one directory, and links to every tenth of them; or what
// of them is not as it was written.
func entries(words []string) string {
	var n int
	if _, err := fmt.Sscan(words[1], &n); err != nil {
		return err.Error()
	}
	for i := range n {
		path := filepath.Join(words[0], fmt.Sprintf("a sheet with a long name %d", i))
		if len(words) > 2 {
			if data, err := os.ReadFile(path); err != nil || string(data) != path {
				return fmt.Sprintf("%s: %q %v", path, data, err)
			}
			continue
		}
		err := os.WriteFile(path, []byte(path), 0o644)
		if err == nil && i%10 == 0 {
			err = os.Link(path, path+" again")
		}
		if err != nil {
			return err.Error()
		}
	}
	return "all"
}

// digest is DEVICE: one over all of its bytes.
func digest(words []string) string { return digestOf(words[0]) }
