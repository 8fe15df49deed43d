package main

import (
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"
)

// onFiles are lines about files of the guest.
func onFiles() map[string]func(words []string) string {
	return map[string]func([]string) string{
		"put": func(w []string) string { return "put" + fine(os.WriteFile(w[0], []byte(w[1]), 0o200)) }, // PATH VALUE: into sysfs
		"link": func(w []string) string { // PATH: where a link leads
			to, err := os.Readlink(w[0])
			return to + fine(err)
		},
		"mkdir": func(w []string) string { return fmt.Sprint(os.MkdirAll(w[0], 0o755)) },
		"open": func(w []string) string { // PATH MODE
			m, err := strconv.ParseUint(w[1], 8, 32)
			return fine(errors.Join(err, os.Chmod(w[0], os.FileMode(m))))
		},
		"file": func(w []string) string { b, err := os.ReadFile(w[0]); return string(b) + fine(err) },
		"text": func(w []string) string { // PATH WORDS: a file of that one line
			return "text" + fine(os.WriteFile(w[0], []byte(strings.Join(w[1:], " ")+"\n"), 0o644))
		},
		"zero": func(w []string) string { // FILE OFFSET N
			var at, n int64
			_, err := fmt.Sscan(w[1]+" "+w[2], &at, &n)
			return "zero" + fine(errors.Join(err, onDevice(w[0], func(f *os.File) error { _, err := f.WriteAt(make([]byte, n), at); return err })))
		},
		"copy":      copySystem, // DEVICE BASE: with a Debian of the host's
		"plug":      plug,       // FILE DEVICE: a disk that it is behind comes
		"unplug":    unplug,     // DEVICE: and goes
		"owner":     owner,      // PATH: whose it is, and its mode
		"gathers":   gathers,    // DEVICE TYPE FILES BLOCKS KILLS
		"holding":   holding,    // DEVICE: remembers its sectors that hold anything; then, how many of those still do
		"begins":    begins,     // FILE: at which page of its device
		"line":      line,       // WORDS: one more of fstab
		"swapfile":  swapFile,   // PATH
		"swapfiles": swapFiles,  // DIR: of every sort, by the kernel and by Fundus
	}
}

func owner(words []string) string {
	var st unix.Stat_t
	err := unix.Lstat(words[0], &st)
	return fmt.Sprintf("%d:%d %04o", st.Uid, st.Gid, st.Mode&0o7777) + fine(err)
}

// begins asks the kernel, by its older call, at which page of the device a file begins.
func begins(words []string) string {
	const fibmap, blockSize = 1, 2
	f, err := os.Open(words[0])
	if err != nil {
		return err.Error()
	}
	defer f.Close()
	block, bytes := int32(0), int32(0)
	_, _, errBlock := unix.Syscall(unix.SYS_IOCTL, f.Fd(), fibmap, uintptr(unsafe.Pointer(&block)))
	_, _, errBytes := unix.Syscall(unix.SYS_IOCTL, f.Fd(), blockSize, uintptr(unsafe.Pointer(&bytes)))
	if errBlock != 0 || errBytes != 0 {
		return fmt.Sprint(errBlock, errBytes)
	}
	return fmt.Sprint(int64(block) * int64(bytes) / int64(os.Getpagesize()))
}

func plug(words []string) string {
	file, err := os.OpenFile(words[0], os.O_RDWR, 0)
	dev, errDev := os.OpenFile("/dev/"+words[1], os.O_RDWR, 0)
	if err := errors.Join(err, errDev); err != nil {
		return err.Error()
	}
	defer file.Close()
	defer dev.Close()
	return "plugged" + fine(unix.IoctlLoopConfigure(int(dev.Fd()), &unix.LoopConfig{Fd: uint32(file.Fd())}))
}

func unplug(words []string) string {
	dev, err := os.OpenFile("/dev/"+words[0], os.O_RDWR, 0)
	if err != nil {
		return err.Error()
	}
	defer dev.Close()
	return "unplugged" + fine(unix.IoctlSetInt(int(dev.Fd()), unix.LOOP_CLR_FD, 0))
}
