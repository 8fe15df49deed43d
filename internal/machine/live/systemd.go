package live

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/coreos/go-systemd/v22/dbus"
	"github.com/coreos/go-systemd/v22/unit"
	godbus "github.com/godbus/dbus/v5"

	"fundus/core/inventory"
	"fundus/internal/machine"
)

// How long systemd and logind may take to answer, and a unit to start.
const (
	busDeadline  = 20 * time.Second
	unitDeadline = 60 * time.Second
)

// reload has systemd read fstab and the units again. What was mounted before has to be mounted
// behind it: a line that is gone, or names another device, unmounts nothing.
func (m *Machine) reload(ctx context.Context, _ *inventory.Inventory, a machine.Action) error {
	ctx, cancel := context.WithTimeout(ctx, unitDeadline) // its generators run meanwhile
	defer cancel()
	before, errBefore := m.mountPoints()
	conn, err := dbus.NewSystemdConnectionContext(ctx)
	if err == nil {
		defer conn.Close()
		err = conn.ReloadContext(ctx)
	}
	if err != nil {
		return &machine.LaterError{Action: a, Why: fmt.Sprintf("systemd does not answer (%v)", err)}
	}
	after, errAfter := m.mountPoints()
	if err := errors.Join(errBefore, errAfter); err != nil {
		return err
	}
	for _, where := range before {
		if !slices.Contains(after, where) {
			return fmt.Errorf("%s was mounted before systemd read its units again, and is not any more", where)
		}
	}
	return nil
}

// mountPoints are those of this system's own list, but for what is mounted at the first access:
// that goes by itself when nobody uses it.
func (m *Machine) mountPoints() (out []string, err error) {
	uses, others, err := m.mountTable("self", nil)
	var waiting []string
	for _, u := range others {
		if u.Kind == inventory.Automount {
			waiting = append(waiting, u.Where)
		}
	}
	for _, u := range slices.Concat(uses, others) {
		if !slices.Contains(waiting, u.Where) {
			out = append(out, u.Where)
		}
	}
	return out, err
}

// startNamed starts or stops a unit, and waits for what becomes of it.
func (m *Machine) startNamed(ctx context.Context, _ *inventory.Inventory, a machine.Action) error {
	return asked(ctx, func(ctx context.Context, conn *dbus.Conn) error {
		if a.Verb == machine.Start {
			return start(ctx, conn, a.Unit)
		}
		return job(ctx, conn, a.Unit, conn.StopUnitContext)
	})
}

// asked does something over a connection to systemd.
func asked(ctx context.Context, do func(ctx context.Context, conn *dbus.Conn) error) error {
	ctx, cancel := context.WithTimeout(ctx, unitDeadline)
	defer cancel()
	conn, err := dbus.NewSystemdConnectionContext(ctx)
	if err != nil {
		return fmt.Errorf("systemd does not answer: %w", err)
	}
	defer conn.Close()
	return do(ctx, conn)
}

// startUnit mounts by starting systemd's unit for the mount point. It reports
// whether there is one for just that, which systemd has read as it is.
func (m *Machine) startUnit(ctx context.Context, v *inventory.Inventory, a machine.Action) (started bool, err error) {
	if !v.Machine.Systemd || !fromFstab(v, a) {
		return false, nil
	}
	ctx, cancel := context.WithTimeout(ctx, unitDeadline)
	defer cancel()
	conn, err := dbus.NewSystemdConnectionContext(ctx)
	if err != nil {
		return false, nil // mount(2) does without
	}
	defer conn.Close()
	name := unit.UnitNamePathEscape(a.Where) + ".mount"
	if !loaded(ctx, conn, name) {
		return false, nil
	}
	return true, start(ctx, conn, name)
}

// startLine has systemd mount what a line of fstab says that is no device: with a program of
// its own, over the network, in memory. Where systemd has not read the line yet it does.
func (m *Machine) startLine(ctx context.Context, _ *inventory.Inventory, a machine.Action) error {
	return asked(ctx, func(ctx context.Context, conn *dbus.Conn) error {
		name := unit.UnitNamePathEscape(a.Where) + ".mount"
		if !loaded(ctx, conn, name) {
			if err := conn.ReloadContext(ctx); err != nil {
				return fmt.Errorf("systemd: %w", err)
			}
			if !loaded(ctx, conn, name) {
				return fmt.Errorf("systemd makes no unit %s of that line; fundus fstab check may know why", name)
			}
		}
		return start(ctx, conn, name)
	})
}

// loaded reports whether systemd has a unit that comes from fstab as that is now.
func loaded(ctx context.Context, conn *dbus.Conn, name string) bool {
	properties, err := conn.GetUnitPropertiesContext(ctx, name)
	return err == nil && properties["LoadState"] == "loaded" && properties["NeedDaemonReload"] != true && properties["SourcePath"] != ""
}

// start starts a unit and waits for what becomes of it.
func start(ctx context.Context, conn *dbus.Conn, name string) error {
	return job(ctx, conn, name, conn.StartUnitContext)
}

// job has systemd do something with a unit, and waits for what becomes of that.
func job(ctx context.Context, conn *dbus.Conn, name string, do func(context.Context, string, string, chan<- string) (int, error)) error {
	done := make(chan string, 1)
	if _, err := do(ctx, name, "replace", done); err != nil {
		return fmt.Errorf("systemd: %s: %w", name, err)
	}
	select {
	case result := <-done:
		if result != "done" {
			return fmt.Errorf("systemd: %s: %s; systemctl status %s says why", name, result, name)
		}
		return nil
	case <-ctx.Done():
		return fmt.Errorf("systemd: %s: nothing became of it in time: %w", name, ctx.Err())
	}
}

// fromFstab reports whether the mount is just what fstab says.
func fromFstab(v *inventory.Inventory, a machine.Action) bool {
	by := v.Resolver()
	for _, u := range v.Units() {
		found := by.Resolve(u.Entry.Spec)
		if u.None == "" && u.Where == a.Where && len(found) == 1 && found[0].Name == a.Device &&
			strings.Join(u.Entry.Options, ",") == a.Options {
			return true
		}
	}
	return false
}

// Inhibit asks logind, where it runs, not to shut down and not to sleep.
func (m *Machine) Inhibit(ctx context.Context, why string) (release func()) {
	nothing := func() {}
	if !m.systemdRuns() || len(m.images) > 0 {
		return nothing
	}
	ctx, cancel := context.WithTimeout(ctx, busDeadline)
	defer cancel()
	conn, err := godbus.ConnectSystemBus(godbus.WithContext(ctx))
	if err != nil {
		return nothing
	}
	defer conn.Close()
	var fd godbus.UnixFD
	call := conn.Object("org.freedesktop.login1", "/org/freedesktop/login1").CallWithContext(ctx,
		"org.freedesktop.login1.Manager.Inhibit", godbus.FlagNoAutoStart, "shutdown:sleep", "fundus", why, "block")
	if call.Store(&fd) != nil {
		return nothing // logind does not run
	}
	f := os.NewFile(uintptr(fd), "inhibitor")
	return func() { f.Close() }
}
