package oscall

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"

	"fundus/core/gather"
	"fundus/core/quantity"
)

// Scattered goes through a directory and all below it on the same mount, and says of each file
// once how it lies. What cannot be opened is passed over.
func Scattered(ctx context.Context, dir string, visit func(gather.File)) error {
	several := map[uint64]bool{} // files with several names, by their numbers
	return goThrough(ctx, dir, true, func(f seen) error {
		if f.elsewhere || f.stat.Mode&unix.S_IFMT != unix.S_IFREG || f.stat.Size == 0 || several[f.stat.Ino] {
			return nil
		}
		if f.stat.Nlink > 1 {
			several[f.stat.Ino] = true
		}
		name, err := filepath.Rel(dir, f.name)
		if err != nil {
			return err
		}
		open, err := os.OpenFile(fmt.Sprintf("/proc/self/fd/%d", f.fd), os.O_RDONLY|unix.O_NOATIME|unix.O_NONBLOCK, 0)
		if err != nil {
			return nil // somebody else's, or leased
		}
		defer open.Close()
		list, err := Extents(open, false)
		if err != nil {
			return err
		}
		lies := howItLies(list, int64(f.stat.Size))
		lies.Path, lies.Left = name, f.left(list)
		visit(lies)
		return nil
	})
}

// howItLies counts the pieces of a file up to its end.
func howItLies(list []FileExtent, size int64) gather.File {
	f := gather.File{Size: quantity.Bytes(size)}
	list = within(list, size)
	for i, e := range list {
		f.Data += quantity.Bytes(e.Length)
		if i == 0 || list[i-1].Logical+list[i-1].Length != e.Logical {
			f.Least++
		}
	}
	f.Pieces = Pieces(list)
	return f
}

// within leaves out what lies beyond the end of the file, and what lies in the inode itself.
func within(list []FileExtent, size int64) (out []FileExtent) {
	for _, e := range list {
		if e.Logical < uint64(size) && e.Flags&ExtentInline == 0 {
			out = append(out, e)
		}
	}
	return out
}

// left says why a file must not be touched.
func (f seen) left(list []FileExtent) string {
	if f.fixed() {
		return "an attribute forbids every change"
	}
	if f.stat.Attributes&unix.STATX_ATTR_ENCRYPTED != 0 {
		return "it is encrypted"
	}
	for _, e := range list {
		if e.Flags&ExtentShared != 0 {
			return "it shares its bytes with another file"
		}
	}
	return ""
}
