package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"

	"fundus/core/block"
	"fundus/core/block/file"
	"fundus/core/quantity"
	"fundus/internal/machine"
	"fundus/internal/machine/conformance"
	"fundus/internal/machine/live"
)

// conform runs the common table of what is refused on this machine, and asks
// the kernel behind each row.
func conform(words []string) string {
	disk, root := words[0], words[1]
	dev, err := file.Open("/dev/"+disk, true, block.DefaultGeometry)
	if err == nil {
		err = errors.Join(conformance.Prepare(dev), dev.Sync(), dev.Close())
	}
	if err == nil {
		err = request(disk, unix.BLKRRPART)
	}
	if err != nil {
		return err.Error()
	}
	m, err := live.New(nil, "", 0)
	if err != nil {
		return err.Error()
	}
	sectors, _ := strconv.ParseInt(read("/sys/block/"+root, "size"), 10, 64)
	s := conformance.Subject{
		Disk:     disk,
		RootDisk: root,
		RootSize: quantity.Bytes(sectors * 512),
		Part:     func(n int) string { return disk + strconv.Itoa(n) },
	}
	s.Fresh = func() (machine.Machine, error) {
		for _, dir := range []string{"/srv/a/deep", "/srv/a"} {
			for syscall.Unmount(dir, 0) == nil {
			}
		}
		_ = swapCall(syscall.SYS_SWAPOFF, "/dev/"+s.Part(3)) // it may not be in use
		_ = os.MkdirAll("/srv/a/deep", 0o755)
		return m, nil
	}
	s.SetReadOnly = func(on bool) error { return readOnly(disk, on) }
	s.Kernel = func(row conformance.Row) error { return askKernel(row) }
	// The directory for the row that mounts in the mounted file system.
	if err := syscall.Mount("/dev/"+s.Part(1), "/srv/a", "ext4", 0, ""); err != nil {
		return err.Error()
	}
	err = os.MkdirAll("/srv/a/deep", 0o755)
	wrong := append(conformance.Run(context.Background(), s), conformance.RunActions(context.Background(), s)...)
	return fmt.Sprintf("%d rows, %d actions, wrong: %q%s", len(conformance.Rows(s)),
		len(conformance.Actions(s))+len(conformance.Mounted(s)), wrong, fine(err))
}

func request(disk string, number uintptr) error {
	f, err := os.Open("/dev/" + disk)
	if err != nil {
		return err
	}
	defer f.Close()
	if _, _, errno := syscall.Syscall(syscall.SYS_IOCTL, f.Fd(), number, 0); errno != 0 {
		return errno
	}
	return nil
}

func readOnly(disk string, on bool) error {
	f, err := os.Open("/dev/" + disk)
	if err != nil {
		return err
	}
	defer f.Close()
	value := 0
	if on {
		value = 1
	}
	return unix.IoctlSetPointerInt(int(f.Fd()), unix.BLKROSET, value)
}

// setLabel is FS_IOC_SETFSLABEL of include/uapi/linux/fs.h, setUUID EXT4_IOC_SETFSUUID of
// fs/ext4/ext4.h.
const (
	setLabel = 0x41009432
	setUUID  = 0x4008662C
)

// askKernel tries with system calls alone what Fundus refused.
func askKernel(row conformance.Row) error {
	a := row.Action
	node := "/dev/" + a.Device
	switch {
	case row.Target != nil && row.ReadOnly:
		f, err := os.OpenFile("/dev/"+row.Target.Device, os.O_RDWR, 0)
		if err == nil {
			_, err = f.WriteAt(make([]byte, 512), 0)
			f.Close()
		}
		return err
	case row.Target != nil:
		path := "/dev/" + row.Target.Device
		if row.Target.Start > 0 {
			path += "1"
		}
		f, err := os.OpenFile(path, os.O_RDWR|syscall.O_EXCL, 0)
		if err == nil {
			f.Close()
		}
		return err
	case a.Verb == machine.Mount:
		kind := a.Kind
		if kind == "" {
			kind = "ext4"
		}
		return syscall.Mount(node, a.Where, kind, 0, strings.TrimPrefix(a.Options, "noatime,"))
	case a.Verb == machine.Bind:
		return syscall.Mount(a.From, a.Where, "", syscall.MS_BIND, "")
	case a.Verb == machine.Remount:
		return syscall.Mount("", a.Where, "", syscall.MS_REMOUNT, a.Options)
	case a.Verb == machine.Unmount:
		return syscall.Unmount(a.Where, 0)
	case a.Verb == machine.ReadTable:
		return request(a.Device, unix.BLKRRPART)
	case a.Verb == machine.RemovePartition:
		return tell(a.Device, 2, int64(a.Number), 0, 0)
	case a.Verb == machine.Relabel:
		f, err := os.Open("/srv/a")
		if err == nil {
			_, _, errno := syscall.Syscall(syscall.SYS_IOCTL, f.Fd(), setLabel, uintptr(unsafe.Pointer(&[256]byte{})))
			if f.Close(); errno != 0 {
				err = errno
			}
		}
		return err
	case a.Verb == machine.Identify:
		f, err := os.Open("/srv/a")
		if err == nil {
			_, _, errno := syscall.Syscall(syscall.SYS_IOCTL, f.Fd(), setUUID, uintptr(unsafe.Pointer(&[24]byte{16, 8: 1})))
			if f.Close(); errno != 0 {
				err = errno
			}
		}
		return err
	case a.Verb == machine.Grow:
		f, err := os.Open("/srv/a")
		if err == nil {
			blocks := uint64(a.Length / 1024)
			_, _, errno := syscall.Syscall(syscall.SYS_IOCTL, f.Fd(), resizeFS, uintptr(unsafe.Pointer(&blocks)))
			if f.Close(); errno != 0 {
				err = errno
			}
		}
		return err
	case a.Verb == machine.SwapOn:
		return swapCall(syscall.SYS_SWAPON, node)
	case strings.HasPrefix(string(a.Verb), "swap"):
		return swapCall(syscall.SYS_SWAPOFF, node)
	}
	return nil
}
