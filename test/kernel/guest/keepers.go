package main

import (
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// keepers are processes that keep a mount busy, each in its way, until they are let go.
type keepers struct{ list []*exec.Cmd }

// keep is HOW PLACE: a process that keeps what is mounted at the place busy.
func (k *keepers) keep(words []string) string {
	program := "/proc/self/exe"
	if words[0] == "program" { // which itself lies there
		program = filepath.Join(words[1], "keeper")
		if err := copyFile("/proc/self/exe", program); err != nil {
			return err.Error()
		}
	}
	cmd := exec.Command(program, append([]string{"keep"}, words...)...)
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		return err.Error()
	}
	k.list = append(k.list, cmd)
	line := make([]byte, 200)
	n, err := out.Read(line)
	return string(line[:n]) + fine(err)
}

// release lets go of all that is kept.
func (k *keepers) release([]string) string {
	var err error
	for _, cmd := range k.list {
		err = errors.Join(err, cmd.Process.Kill())
		_ = cmd.Wait() // it was killed
	}
	k.list = nil
	return "released" + fine(err)
}

func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o755)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}

// keeping is what such a process does.
func keeping(how, place string) {
	var err error
	path := filepath.Join(place, "sheet")
	switch how {
	case "file", "user":
		if _, err = os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o666); how == "user" {
			err = errors.Join(err, syscall.Setuid(1000))
		}
	case "directory":
		err = os.Chdir(place)
	case "root":
		err = errors.Join(syscall.Chroot(place), os.Chdir("/"))
	case "memory":
		var f *os.File
		if err = os.WriteFile(path, make([]byte, 8192), 0o644); err == nil {
			if f, err = os.Open(path); err == nil {
				_, err = syscall.Mmap(int(f.Fd()), 0, 4096, syscall.PROT_READ, syscall.MAP_SHARED)
				f.Close()
			}
		}
	case "socket":
		_, err = net.Listen("unix", filepath.Join(place, "socket"))
	case "hog": // the place is how many MiB
		var n int
		if _, err = fmt.Sscan(place, &n); err == nil {
			hog := make([]byte, n<<20)
			for i := 0; i < len(hog); i += 4096 {
				hog[i] = byte(i>>12) | 1
			}
			defer runtime.KeepAlive(hog)
		}
	case "thread":
		done := make(chan error)
		var work func()
		work = func() {
			runtime.LockOSThread()
			if syscall.Gettid() == os.Getpid() { // the first thread is the process's own place
				go work()
				time.Sleep(time.Hour)
			}
			done <- errors.Join(syscall.Unshare(syscall.CLONE_FS), syscall.Chdir(place))
			time.Sleep(time.Hour)
		}
		go work()
		err = <-done
	}
	fmt.Print("keeping", fine(err))
	time.Sleep(time.Hour)
}

// swapFile is PATH: a file of 4 MiB that the machine swaps on.
func swapFile(words []string) string {
	page := make([]byte, 4<<20)
	page[1024], page[1028+1] = 1, 3 // version, and a last page of 3 × 256 + 255
	page[1028] = 255
	copy(page[4086:], "SWAPSPACE2")
	f, err := os.OpenFile(words[0], os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err == nil {
		_, err = f.Write(page)
		err = errors.Join(err, f.Sync(), f.Close())
	}
	if err == nil {
		err = swapCall(syscall.SYS_SWAPON, words[0])
	}
	return "swaps" + fine(err)
}

// swapFiles makes a file of each sort below a directory, and has the kernel and Fundus swap on
// it, each by itself: both must say the same.
func swapFiles(words []string) string {
	var out []string
	for _, how := range []string{"written", "unwritten", "hole", "tail", "shared", "pages", "nothing"} {
		path := filepath.Join(words[0], how)
		header := make([]byte, 8192)
		header[1024], header[1028+1], header[1028] = 1, 3, 255
		copy(header[4086:], "SWAPSPACE2")
		f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
		const size = 4 << 20
		switch how {
		case "written", "shared":
			_, errWrite := f.Write(make([]byte, size))
			err = errors.Join(err, errWrite)
		case "hole":
			err = errors.Join(err, unix.Fallocate(int(f.Fd()), 0, 0, size/2), unix.Fallocate(int(f.Fd()), 0, size/2+65536, size/2-65536))
		case "tail":
			err = errors.Join(err, unix.Fallocate(int(f.Fd()), 0, 0, size/2), f.Truncate(size))
		case "pages":
			header = make([]byte, 8192)
			header[1024], header[1028] = 1, 255
			copy(header[8182:], "SWAPSPACE2")
			err = errors.Join(err, unix.Fallocate(int(f.Fd()), 0, 0, size))
		case "nothing":
			header = nil
			err = errors.Join(err, unix.Fallocate(int(f.Fd()), 0, 0, size))
		default:
			err = errors.Join(err, unix.Fallocate(int(f.Fd()), 0, 0, size))
		}
		_, errWrite := f.WriteAt(header, 0)
		if err = errors.Join(err, errWrite, f.Sync()); err != nil {
			return how + fine(err)
		}
		if how == "shared" {
			twin, err := os.Create(path + "-twin")
			if err == nil {
				err = errors.Join(unix.IoctlFileClone(int(twin.Fd()), int(f.Fd())), twin.Close())
			}
			if err != nil { // this kind shares nothing
				f.Close()
				continue
			}
		}
		f.Close()
		kernel := swapCall(syscall.SYS_SWAPON, path) == nil
		if kernel {
			err = swapCall(syscall.SYS_SWAPOFF, path)
		}
		said := fundus([]string{"swap", "on", path})
		ours := strings.HasSuffix(said, "[<nil>]")
		if ours {
			err = errors.Join(err, swapCall(syscall.SYS_SWAPOFF, path))
		}
		out = append(out, fmt.Sprintf("%s %v %v%s", how, kernel, ours, fine(err)))
		if kernel != ours {
			out = append(out, said)
		}
	}
	return strings.Join(out, ", ")
}

// line is WORDS: one more line of fstab.
func line(words []string) string {
	f, err := os.OpenFile("/etc/fstab", os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
	if err == nil {
		_, err = fmt.Fprintln(f, strings.Join(words, " "))
		err = errors.Join(err, f.Close())
	}
	return "line" + fine(err)
}

// spoil is DEVICE OFFSET N: so many bytes there are turned over.
func spoil(words []string) string {
	var at, n int64
	_, err := fmt.Sscan(words[1]+" "+words[2], &at, &n)
	if err == nil {
		err = onDevice(words[0], func(f *os.File) error {
			b := make([]byte, n)
			if _, err := f.ReadAt(b, at); err != nil {
				return err
			}
			for i := range b {
				b[i] = ^b[i]
			}
			_, err := f.WriteAt(b, at)
			return err
		})
	}
	return "spoilt" + fine(err)
}
