package oscall

import (
	"errors"
	"os"
)

// Why the kernel does not swap on a file.
var (
	ErrHoles     = errors.New("it has holes, and the kernel writes to each page of it past the file system; fundus swap add makes one that is whole")
	ErrShared    = errors.New("it shares its blocks with another file, which would be swapped over; fundus swap add makes one of its own")
	ErrSignature = errors.New("it does not begin as a swap area with the pages of this kernel does; fundus swap add makes one")
)

// SwapTrouble says what keeps the kernel from swapping on a file, as far as it can be seen
// before it is tried: without that it says the same of all, that an argument is invalid.
//
// Source: mm/swapfile.c and fs/iomap/swapfile.c of Linux.
func SwapTrouble(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() {
		return err
	}
	page := make([]byte, os.Getpagesize())
	if _, err := f.ReadAt(page, 0); err != nil || string(page[len(page)-10:]) != "SWAPSPACE2" {
		return ErrSignature
	}
	list, err := Extents(f, true)
	if err != nil {
		return nil // where that cannot be asked, the kernel judges
	}
	at := uint64(0)
	for _, e := range within(list, info.Size()) {
		if e.Logical > at {
			return ErrHoles
		}
		if e.Flags&ExtentShared != 0 {
			return ErrShared
		}
		at = e.Logical + e.Length
	}
	if at < uint64(info.Size())/uint64(len(page))*uint64(len(page)) {
		return ErrHoles
	}
	return nil
}
