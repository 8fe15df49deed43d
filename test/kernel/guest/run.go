package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
	"unsafe"
)

// run runs the lines: commands of fundus as an administrator would type them,
// or what is said in extras. It gives what each printed with how it ended.
func run(commands []string) (said []string) {
	x := &extras{}
	for n, line := range commands {
		words := strings.Fields(line)
		if !slices.Contains([]string{"show", "see", "pause"}, words[0]) { // those are seen, in a picture
			progress("command %d: %s", n+1, words[0])
		}
		if own := x.find(words[0]); own != nil {
			said = append(said, own(words[1:]))
			continue
		}
		said = append(said, fundus(words))
	}
	return said
}

// progress tells the host that the proof goes on: it waits as long as something does.
func progress(format string, args ...any) { fmt.Printf("\nAT "+format+"\n", args...) }

// fundus runs the program.
func fundus(words []string) string {
	cmd := exec.Command("/bin/fundus", words...) // threads and faults are slow in a kernel that is a process
	cmd.Env = append(os.Environ(), "GOMAXPROCS=1", "GOGC=off")
	out, err := cmd.CombinedOutput()
	return fmt.Sprintf("%s[%v]", out, err)
}

// attempt has the kernel mount a device as a type, "ro" or "rw", with what options follow, and says
// how that ended.
func attempt(words []string) string {
	flags := uintptr(0)
	if words[2] == "ro" {
		flags = syscall.MS_RDONLY
	}
	if err := syscall.Mount("/dev/"+words[0], "/mnt", words[1], flags, strings.Join(words[3:], ",")); err != nil {
		return err.Error()
	}
	if err := syscall.Unmount("/mnt", 0); err != nil {
		return "unmount: " + err.Error()
	}
	return "mounted"
}

// resizeFS is the request to grow a mounted ext4 to a number of blocks
// (include/uapi/linux/ext4.h).
const resizeFS = 0x40086610

// grow has the kernel grow the file system on the device, mounted meanwhile.
func grow(device, blocks string) string {
	n, err := strconv.ParseUint(blocks, 10, 64)
	if err == nil {
		err = syscall.Mount(device, "/mnt", "ext4", 0, "")
	}
	if err != nil {
		return err.Error()
	}
	defer syscall.Unmount("/mnt", 0)
	f, err := os.Open("/mnt")
	if err != nil {
		return err.Error()
	}
	defer f.Close()
	if _, _, errno := syscall.Syscall(syscall.SYS_IOCTL, f.Fd(), resizeFS, uintptr(unsafe.Pointer(&n))); errno != 0 {
		return errno.Error()
	}
	var st syscall.Statfs_t
	if err := syscall.Statfs("/mnt", &st); err != nil {
		return err.Error()
	}
	return fmt.Sprintf("grown to %d free blocks", st.Bfree)
}

// writer is a neighbour that must not notice anything.
type writer struct {
	dir  string
	stop chan struct{}
	done chan string
}

func startWriter(dir string) *writer {
	w := &writer{dir, make(chan struct{}), make(chan string)}
	go func() { w.done <- w.write() }()
	return w
}

func (w *writer) write() string {
	for i := 0; ; i++ {
		select {
		case <-w.stop:
			return fmt.Sprintf("wrote %d files", i)
		default:
		}
		path := filepath.Join(w.dir, fmt.Sprintf("specimen%d", i%50))
		if err := os.WriteFile(path, wanted(i%300), 0o644); err != nil {
			return err.Error()
		}
		got, err := os.ReadFile(path)
		if err != nil || string(got) != string(wanted(i%300)) {
			return fmt.Sprintf("file %d is not what was written: %v", i, err)
		}
		time.Sleep(time.Millisecond)
	}
}

func (w *writer) rest() string {
	close(w.stop)
	return <-w.done
}
