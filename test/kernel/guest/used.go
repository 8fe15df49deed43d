package main

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
)

// usedProof is a file system that is mounted at /mnt, used, and read back.
type usedProof struct {
	device string
	typ    string
	data   string // options
	files  int
	wrong  []string
}

func (x *usedProof) check(what string, err error) {
	if err != nil {
		x.wrong = append(x.wrong, what+": "+err.Error())
	}
}

func (x *usedProof) mount() { x.check("mount", syscall.Mount(x.device, "/mnt", x.typ, 0, x.data)) }

func (x *usedProof) again() {
	x.check("unmount", syscall.Unmount("/mnt", 0))
	x.mount()
}

func (x *usedProof) statfs() (st syscall.Statfs_t) {
	x.check("statfs", syscall.Statfs("/mnt", &st))
	return st
}

func (x *usedProof) tree() {
	x.files = min(count(), 150)
	for i := range x.files {
		x.check("directory", os.MkdirAll(filepath.Dir(name(i)), 0o755))
		x.check("write", os.WriteFile(name(i), wanted(i), 0o644))
		if i%7 == 0 {
			x.check("remove", os.Remove(name(i)))
			x.check("write anew", os.WriteFile(name(i), wanted(i), 0o644))
		}
	}
}

func (x *usedProof) read() {
	for i := range x.files {
		data, err := os.ReadFile(name(i))
		x.check("read", err)
		if !bytes.Equal(data, wanted(i)) {
			x.wrong = append(x.wrong, name(i)+" is not what was written")
		}
	}
}

// fill takes all space and gives it back. What becomes free the kernel counts when it has the
// time: it is asked after a mount.
func (x *usedProof) fill() {
	x.again()
	before := x.statfs()
	f, err := os.Create("/mnt/fill")
	x.check("fill", err)
	block := make([]byte, 1<<20)
	for err == nil {
		_, err = f.Write(block)
	}
	if !errors.Is(err, syscall.ENOSPC) {
		x.check("filling ended with", err)
	}
	x.check("emptying", errors.Join(f.Sync(), f.Close(), os.Remove("/mnt/fill")))
	x.again()
	if after := x.statfs(); before.Bfree != after.Bfree {
		x.wrong = append(x.wrong, fmt.Sprintf("free before %d blocks, after %d", before.Bfree, after.Bfree))
	}
}
