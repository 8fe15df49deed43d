package live

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"fundus/core/advice"
	"fundus/core/inventory"
	"fundus/internal/machine"
)

// Watch calls the function with each disk that comes or goes, as the kernel
// announces it, until the context ends. A disk that comes between a look at the
// machine and the first announcement that is kept would be seen by neither: begun
// is called when the kernel keeps them.
//
// Source: the kernel's messages on its netlink group 1 are texts that end with a
// zero byte: a heading, then NAME=VALUE (lib/kobject_uevent.c).
func (m *Machine) Watch(ctx context.Context, begun func(), report func(machine.Event)) error {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, unix.NETLINK_KOBJECT_UEVENT)
	if err != nil {
		return fmt.Errorf("the kernel's announcements: %w", err)
	}
	defer unix.Close(fd)
	if err := unix.Bind(fd, &unix.SockaddrNetlink{Family: unix.AF_NETLINK, Groups: 1}); err != nil {
		return fmt.Errorf("the kernel's announcements: %w", err)
	}
	// Waking up now and then, to see whether the context ended.
	if err := unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &unix.Timeval{Usec: 200_000}); err != nil {
		return err
	}
	begun()
	buf, last := make([]byte, 64<<10), map[string]string{}
	once := func(e machine.Event) {
		if now := gist(e); e.Lost || last[e.Name] != now {
			last[e.Name] = now
			report(e)
		}
	}
	for ctx.Err() == nil {
		n, from, err := unix.Recvfrom(fd, buf, 0)
		switch {
		case errors.Is(err, unix.EAGAIN), errors.Is(err, unix.EINTR):
			continue
		case errors.Is(err, unix.ENOBUFS):
			report(machine.Event{Lost: true})
			continue
		case err != nil:
			return fmt.Errorf("the kernel's announcements: %w", err)
		}
		if nl, ok := from.(*unix.SockaddrNetlink); ok && nl.Pid == 0 { // anybody else may send too
			m.announced(ctx, buf[:n], once)
		}
	}
	return nil
}

// gist is what an event says of a disk: the kernel announces the same more than
// once.
func gist(e machine.Event) string {
	var b strings.Builder
	for _, n := range e.Nodes {
		fmt.Fprintf(&b, "%s %d %s %s\n", n.Name, n.Size, advice.Holds(n), n.Problem)
	}
	return b.String()
}

func (m *Machine) announced(ctx context.Context, message []byte, report func(machine.Event)) {
	e := uevent(message)
	if e["SUBSYSTEM"] != "block" || e["DEVTYPE"] != "disk" {
		return
	}
	name := filepath.Base(e["DEVPATH"])
	switch e["ACTION"] {
	case "add":
		report(machine.Event{Name: name, Came: true, Nodes: m.arrived(ctx, name)})
	case "change": // a drive that got a medium, a volume that got its table
		if e["DISK_MEDIA_CHANGE"] == "1" || e["RESIZE"] == "1" || strings.HasPrefix(name, "dm-") || strings.HasPrefix(name, "loop") {
			report(machine.Event{Name: name, Changed: true, Nodes: m.arrived(ctx, name)})
		}
	case "remove":
		report(machine.Event{Name: name})
	}
}

// uevent cuts a message into its names and values.
func uevent(message []byte) map[string]string {
	out := map[string]string{}
	for text := range strings.SplitSeq(string(message), "\x00") {
		if name, value, ok := strings.Cut(text, "="); ok {
			out[name] = value
		}
	}
	return out
}

// arrived reads a disk that has just come, once its node is there.
func (m *Machine) arrived(ctx context.Context, name string) []inventory.Node {
	for range 20 {
		if d, err := m.listed(name); err == nil && !d.absent() {
			m.patience.forget(d)
			m.patience.ask(ctx, []listed{d})
			if nodes := m.scan(d); nodes[0].Problem == "" || nodes[0].Silent {
				return nodes
			}
		}
		time.Sleep(50 * time.Millisecond)
	}
	d, err := m.listed(name)
	if err != nil {
		return nil
	}
	return m.scan(d)
}
