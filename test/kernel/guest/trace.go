package main

import (
	"encoding/binary"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// endAt runs the command of fundus and ends the machine at one of its calls on
// a block device, as if the power were lost: at call number N, counted from 1,
// before it where N is odd and after it where N is even. "sync" counts syncs
// alone. With N = 0 it only says how many there are.
func endAt(words []string) string {
	runtime.LockOSThread() // tracing is a matter between threads
	defer runtime.UnlockOSThread()
	stop, _ := strconv.Atoi(words[1])
	t := &tracer{syncs: words[0] == "sync", stop: stop, inside: map[int]bool{}}
	cmd := exec.Command("/bin/fundus", words[2:]...)
	cmd.Env = append(os.Environ(), "GOMAXPROCS=1", "GOGC=off")
	cmd.SysProcAttr = &syscall.SysProcAttr{Ptrace: true}
	if err := cmd.Start(); err != nil {
		return err.Error()
	}
	err := t.follow(cmd.Process.Pid)
	return fmt.Sprintf("%d moments%s", t.count, fine(err))
}

type tracer struct {
	syncs       bool
	stop, count int
	inside      map[int]bool // threads that are in a call
}

func (t *tracer) follow(pid int) error {
	var status syscall.WaitStatus
	if _, err := syscall.Wait4(pid, &status, 0, nil); err != nil {
		return err
	}
	const options = unix.PTRACE_O_TRACESYSGOOD | unix.PTRACE_O_TRACECLONE | unix.PTRACE_O_EXITKILL
	if err := syscall.PtraceSetOptions(pid, options); err != nil {
		return err
	}
	at, signal := pid, 0
	for {
		if err := syscall.PtraceSyscall(at, signal); err != nil && err != syscall.ESRCH {
			return err
		}
		thread, err := syscall.Wait4(-1, &status, syscall.WALL, nil)
		if err != nil {
			return err
		}
		at, signal = thread, 0
		switch {
		case status.Exited() || status.Signaled():
			if thread == pid {
				return nil
			}
			continue
		case !status.Stopped():
			continue
		case status.StopSignal() == syscall.SIGTRAP|0x80:
			t.call(thread)
		case status.StopSignal() != syscall.SIGTRAP && status.StopSignal() != syscall.SIGSTOP:
			signal = int(status.StopSignal())
		}
	}
}

// call looks at a call that begins or ends.
func (t *tracer) call(thread int) {
	begins := !t.inside[thread]
	t.inside[thread] = begins
	if !t.counts(thread) {
		return
	}
	t.count++
	if t.count == t.stop {
		fmt.Println("\nENDED") // nothing is synced: what was not on the medium is lost
		_ = syscall.Reboot(syscall.LINUX_REBOOT_CMD_POWER_OFF)
	}
}

// Places of registers in the thread's user area (struct user_regs_struct).
const (
	secondArgument = 13 * 8
	firstArgument  = 14 * 8
	callNumber     = 15 * 8
)

func register(thread int, place uintptr) uint64 {
	b := make([]byte, 8)
	if _, err := unix.PtracePeekUser(thread, place, b); err != nil {
		return ^uint64(0)
	}
	return binary.LittleEndian.Uint64(b)
}

func (t *tracer) counts(thread int) bool {
	switch register(thread, callNumber) {
	case syscall.SYS_FSYNC, syscall.SYS_FDATASYNC:
	case syscall.SYS_PWRITE64, syscall.SYS_WRITE:
		if t.syncs {
			return false
		}
	case syscall.SYS_IOCTL: // zeroing writes too
		if t.syncs || register(thread, secondArgument) != unix.BLKZEROOUT {
			return false
		}
	default:
		return false
	}
	link, err := os.Readlink(filepath.Join("/proc", strconv.Itoa(thread), "fd", strconv.FormatUint(register(thread, firstArgument), 10)))
	return err == nil && strings.HasPrefix(link, "/dev/ubd")
}
