package main

import (
	"fmt"
	"os"
	"syscall"
	"unsafe"
)

// Requests of the device mapper and their argument: include/uapi/linux/dm-ioctl.h.
const (
	dmCreate = 0xc138fd03
	dmLoad   = 0xc138fd09
	dmResume = 0xc138fd06
	dmRemove = 0xc138fd04

	dmSuspendFlag, dmSkipLockFlag = 1 << 1, 1 << 10 // with dmResume's request
)

type dmRequest struct {
	version               [3]uint32
	size, start           uint32
	targets               uint32
	open                  int32
	flags, event, padding uint32
	dev                   uint64
	name                  [128]byte
	uuid                  [129]byte
	data                  [7]byte
	target                dmTarget
	params                [128]byte
}

type dmTarget struct {
	start, length uint64
	status        int32
	next          uint32
	kind          [16]byte
}

// mapDevice makes a linear device over another one.
func mapDevice(words []string) string {
	var sectors int64
	fmt.Sscan(read("/sys/class/block/"+words[1], "size"), &sectors)
	control, err := os.OpenFile("/dev/mapper/control", os.O_RDWR, 0)
	if err != nil {
		return err.Error()
	}
	defer control.Close()
	return mapRequests(control, words, sectors, dmCreate, dmLoad, dmResume)
}

// suspend makes the device keep every request until it is resumed, and drops
// what the kernel remembers of its bytes.
func suspend(words []string) string {
	if err := os.WriteFile("/proc/sys/vm/drop_caches", []byte("3"), 0o644); err != nil {
		return err.Error()
	}
	return resumed(words[0], dmSuspendFlag|dmSkipLockFlag)
}

func resume(words []string) string { return resumed(words[0], 0) }

func resumed(name string, flags uint32) string {
	control, err := os.OpenFile("/dev/mapper/control", os.O_RDWR, 0)
	if err != nil {
		return err.Error()
	}
	defer control.Close()
	r := dmRequest{version: [3]uint32{4}, start: 312, flags: flags}
	r.size = uint32(unsafe.Sizeof(r))
	copy(r.name[:], name)
	if _, _, errno := syscall.Syscall(syscall.SYS_IOCTL, control.Fd(), dmResume, uintptr(unsafe.Pointer(&r))); errno != 0 {
		return errno.Error()
	}
	return read("/sys/block/dm-0", "dm/suspended")
}

// unmap takes the device away.
func unmap(words []string) string {
	control, err := os.OpenFile("/dev/mapper/control", os.O_RDWR, 0)
	if err != nil {
		return err.Error()
	}
	defer control.Close()
	return mapRequests(control, words, 0, dmRemove)
}

func mapRequests(control *os.File, words []string, sectors int64, requests ...uintptr) string {
	for _, request := range requests {
		r := dmRequest{version: [3]uint32{4}, start: 312}
		r.size = uint32(unsafe.Sizeof(r))
		copy(r.name[:], words[0])
		if request == dmLoad {
			r.targets = 1
			r.target.length = uint64(sectors)
			copy(r.target.kind[:], "linear")
			copy(r.params[:], fmt.Sprintf("/dev/%s 0", words[1]))
		}
		if _, _, errno := syscall.Syscall(syscall.SYS_IOCTL, control.Fd(), request, uintptr(unsafe.Pointer(&r))); errno != 0 {
			return fmt.Sprintf("request %#x: %v", request, errno)
		}
	}
	return "mapped"
}
