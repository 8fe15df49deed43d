package files

import (
	"fmt"
	"os"

	"fundus/core/block"
	"fundus/core/block/file"
	"fundus/core/fs"
	"fundus/core/fs/swap"
	"fundus/core/mounts"
	"fundus/internal/oscall"
)

// lookAtSwapFile says what the kernel would have against swapping on the file at the path, which
// is the host's; told is false where it could not be looked into. It takes a plain file with a
// signature, of which every block is there (mm/swapfile.c, fs/iomap/swapfile.c of Linux 6.1).
func lookAtSwapFile(at string) (why string, told bool) {
	st, err := os.Stat(at)
	switch {
	case os.IsNotExist(err): // it is only planned
		return "", true
	case err != nil:
		return "", false
	case !st.Mode().IsRegular():
		return "it is no plain file", true
	}
	dev, err := file.Open(at, false, block.DefaultGeometry)
	if err != nil {
		return "", false
	}
	defer dev.Close()
	c, err := swap.Probe(dev)
	switch {
	case err != nil:
		return "", false
	case c == nil:
		return "it has no signature of swap", true
	case c.State == fs.Damaged:
		return "its header is damaged", true
	case mounts.WrongPage(*c) != "":
		return mounts.WrongPage(*c), true
	case c.State == fs.Asleep: // a system sleeps in it
		return "", true
	case int64(c.Size) > dev.Size():
		return "it is shorter than its header says", true
	}
	return holeIn(at, uint64(c.Size)), true
}

// holeIn says where the first bytes of a file have no place; "" where all have one, and where the
// file system does not say it.
func holeIn(at string, size uint64) string {
	f, err := os.Open(at)
	if err != nil {
		return ""
	}
	defer f.Close()
	list, err := oscall.Extents(f, false)
	if err != nil {
		return ""
	}
	next := uint64(0)
	for _, e := range list { // what is given and not written yet is no hole
		if e.Logical > next {
			break
		}
		next = e.Logical + e.Length
	}
	if next < size {
		return fmt.Sprintf("it has a hole at byte %d: every block of such a file has to be there", next)
	}
	return ""
}
