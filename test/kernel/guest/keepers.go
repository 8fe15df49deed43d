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
