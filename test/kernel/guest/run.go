package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
	"unsafe"
)

// run runs commands of fundus as an administrator would, and gives what each
// printed with how it ended. Some lines are the guest's own: "writer DIR"
// writes there without a pause until "rest", which says how that went; "begin"
// tells the host that the next command begins; "grow DEVICE BLOCKS" has the
// kernel grow a file system.
func run(commands []string) (said []string) {
	var w *writer
	for _, line := range commands {
		switch words := strings.Fields(line); words[0] {
		case "writer":
			w = startWriter(words[1])
			said = append(said, "")
		case "begin":
			fmt.Println("BEGIN") // the host may end the machine from here on
			said = append(said, "")
		case "grow":
			said = append(said, grow(words[1], words[2]))
		case "rest":
			said = append(said, w.rest())
		default:
			cmd := exec.Command("/bin/fundus", words...)
			out, err := cmd.CombinedOutput()
			said = append(said, fmt.Sprintf("%s[%v]", out, err))
		}
	}
	return said
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
		if err := os.WriteFile(path, content(i%300), 0o644); err != nil {
			return err.Error()
		}
		got, err := os.ReadFile(path)
		if err != nil || string(got) != string(content(i%300)) {
			return fmt.Sprintf("file %d is not what was written: %v", i, err)
		}
		time.Sleep(time.Millisecond)
	}
}

func (w *writer) rest() string {
	close(w.stop)
	return <-w.done
}
