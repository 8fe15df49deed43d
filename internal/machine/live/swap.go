package live

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"fundus/core/inventory"
	"fundus/core/progress"
	"fundus/core/quantity"
	"fundus/core/text/fstab"
	"fundus/internal/machine"
	"fundus/internal/oscall"
)

// Flags of swapon(2): include/linux/swap.h.
const (
	swapPrefer       = 0x8000
	swapPriority     = 0x7FFF
	swapDiscard      = 0x10000
	swapDiscardOnce  = 0x20000
	swapDiscardPages = 0x40000
)

// swapFlags are the priority and what is told to the disk.
func swapFlags(options string) (flags uintptr) {
	e := fstab.Entry{Options: fstab.Split(options)}
	if value, ok := e.Value("pri"); ok {
		if n, err := strconv.Atoi(value); err == nil && n >= 0 {
			flags |= swapPrefer | uintptr(min(n, swapPriority))
		}
	}
	if value, ok := e.Value("discard"); ok {
		flags |= swapDiscard | map[string]uintptr{"once": swapDiscardOnce, "pages": swapDiscardPages}[value]
	}
	return flags
}

// swap turns an area on, or off in a child of the program: whoever gives an area up is the
// first that the kernel kills where memory is short, and a signal to it takes the area back
// into use.
func (m *Machine) swap(ctx context.Context, v *inventory.Inventory, a machine.Action) error {
	path := a.Where
	if n, ok := v.Node(a.Device); ok {
		path = n.Path
	}
	if a.Verb == machine.SwapOn && a.Device == "" {
		if err := oscall.SwapTrouble(path); err != nil {
			return &machine.Refusal{Rule: machine.RuleNotSwap, Thing: path, Text: err.Error()}
		}
	}
	if a.Verb == machine.SwapOn {
		return swapCall(unix.SYS_SWAPON, path, swapFlags(a.Options))
	}
	child, err := os.StartProcess("/proc/self/exe", []string{swapGiver, path}, &os.ProcAttr{
		Files: []*os.File{nil, nil, nil},
		Sys:   &syscall.SysProcAttr{Setsid: true},
	})
	if err != nil {
		return fmt.Errorf("starting a child that gives it up: %w", err)
	}
	stop := context.AfterFunc(ctx, func() { _ = child.Signal(syscall.SIGTERM) }) // it may have ended
	defer stop()
	defer m.follow(ctx, path)()
	ended, err := child.Wait()
	switch {
	case err != nil || ended.Success():
		return err
	case ctx.Err() != nil:
		return fmt.Errorf("interrupted: %s is in use as before: %w", path, ctx.Err())
	case ended.ExitCode() > 0:
		return syscall.Errno(ended.ExitCode())
	}
	return fmt.Errorf("%s is in use as before: what gave it up was killed, since memory is short", path)
}

// follow reports each second how much of an area is given up, until it is told to end.
func (m *Machine) follow(ctx context.Context, path string) (end func()) {
	sink := progress.Of(ctx)
	if sink == nil {
		return func() {}
	}
	used := func() (quantity.Bytes, bool) {
		for _, a := range m.areas() {
			if a.Path == path {
				return a.Used, true
			}
		}
		return 0, false
	}
	began, _ := used()
	ended, over := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(over)
		tick := time.NewTicker(time.Second)
		defer tick.Stop()
		for {
			select {
			case <-ended:
				return
			case <-tick.C:
			}
			if left, there := used(); there {
				sink.Send("turning off "+path, max(0, began-left), began)
			}
		}
	}()
	return func() { close(ended); <-over }
}

// swapGiver is what the child is called that gives an area up.
const swapGiver = "fundus-swap-off"

// GiveUpSwap is that child: if the words of the program's start say that it is one, it has the
// kernel give the area up, and ends with the number of the error.
func GiveUpSwap(words []string) (code int, child bool) {
	if len(words) != 2 || words[0] != swapGiver {
		return 0, false
	}
	var errno syscall.Errno
	if err := swapCall(unix.SYS_SWAPOFF, words[1], 0); errors.As(err, &errno) {
		return int(errno), true
	} else if err != nil {
		return int(unix.EIO), true
	}
	return 0, true
}

func swapCall(call uintptr, path string, flags uintptr) error {
	p, err := unix.BytePtrFromString(path)
	if err != nil {
		return err
	}
	if _, _, errno := unix.Syscall(call, uintptr(unsafe.Pointer(p)), flags, 0); errno != 0 {
		return errno
	}
	return nil
}
