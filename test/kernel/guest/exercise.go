package main

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
)

// count is how many files of the tree fit into half of what is free.
func count() int {
	var st syscall.Statfs_t
	_ = syscall.Statfs("/mnt", &st)
	n := 600
	for n > 1 && (uint64(n*n*37/2+2*n*int(st.Bsize)) > st.Bfree*uint64(st.Bsize)/2 || uint64(n+40) > st.Ffree) {
		n /= 2
	}
	return n
}

// wanted is what is in the numbered file: of many lengths, from nothing to several
// blocks.
func wanted(i int) []byte {
	p := make([]byte, i*37)
	for k := range p {
		p[k] = byte(i*7 + k*13)
	}
	return p
}

func name(i int) string {
	return filepath.Join("/mnt", fmt.Sprintf("shelf%d", i%20), fmt.Sprintf("sheet%d", i))
}

// exercise uses the file system mounted at /mnt: a tree is written, unmounted,
// read back; then all space is taken and given back. It gives what went wrong.
func exercise(device, options string) (wrong []string) {
	check := func(what string, err error) {
		if err != nil {
			wrong = append(wrong, what+": "+err.Error())
		}
	}
	want, files := sha256.New(), count()
	for i := range files {
		check("directory", os.MkdirAll(filepath.Dir(name(i)), 0o755))
		check("write", os.WriteFile(name(i), wanted(i), 0o644))
		want.Write(wanted(i))
	}
	check("unmount", syscall.Unmount("/mnt", 0))
	check("mount again", syscall.Mount(device, "/mnt", "ext4", 0, options))
	got := sha256.New()
	for i := range files {
		data, err := os.ReadFile(name(i))
		check("read", err)
		got.Write(data)
	}
	if string(got.Sum(nil)) != string(want.Sum(nil)) {
		wrong = append(wrong, "the tree is not what was written")
	}
	return append(wrong, fill()...)
}

func fill() (wrong []string) {
	var before, after syscall.Statfs_t
	_ = syscall.Statfs("/mnt", &before)
	f, err := os.Create("/mnt/fill")
	if err != nil {
		return []string{"fill: " + err.Error()}
	}
	block := make([]byte, 1<<20)
	const part = 64 // blocks of these; a large file system is filled in part
	whole := before.Bfree*uint64(before.Bsize) < 4<<30
	for i := 0; err == nil && (whole || i < part); i++ {
		_, err = f.Write(block)
	}
	if whole != errors.Is(err, syscall.ENOSPC) || !whole && err != nil {
		wrong = append(wrong, fmt.Sprint("filling ended with ", err))
	}
	for _, err := range []error{f.Sync(), f.Close(), os.Remove("/mnt/fill")} {
		if err != nil {
			wrong = append(wrong, "emptying: "+err.Error())
		}
	}
	syscall.Sync()
	_ = syscall.Statfs("/mnt", &after)
	if before.Bfree != after.Bfree || before.Ffree != after.Ffree {
		wrong = append(wrong, fmt.Sprintf("free before %d blocks and %d inodes, after %d and %d", before.Bfree,
			before.Ffree, after.Bfree, after.Ffree))
	}
	return wrong
}
