package live

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/kind"
)

// How long udev is waited for, and after which part of that the kernel is asked
// to announce a device again.
const (
	settleDeadline = 10 * time.Second
	settleAnnounce = 3 * time.Second
	settlePause    = 20 * time.Millisecond
)

// ErrSettle says that udev's database does not show what is on the disks.
var ErrSettle = errors.New("udev has not taken it up")

// Settle waits until udev's database agrees with what is on the disks and on
// their partitions. Where udev does not run there is nothing to wait for.
func (m *Machine) Settle(ctx context.Context, disks []string) error {
	if _, err := os.Stat(m.udev("control")); err != nil || len(disks) == 0 {
		return nil
	}
	v := &inventory.Inventory{} // of these disks alone: the others are as they were
	for _, disk := range disks {
		if d, err := m.listed(disk); err == nil {
			v.Nodes = append(v.Nodes, m.lookAt(d)...)
		}
	}
	start, announced := time.Now(), false
	for {
		late := ""
		for _, disk := range disks {
			if n := m.unsettled(v, disk); n != "" {
				late = n
			}
		}
		switch waited := time.Since(start); {
		case late == "" && !m.udevBusy():
			return nil
		case waited > settleDeadline:
			return fmt.Errorf("%w within %v: %s; links below /dev/disk and systemd's units may be outdated", ErrSettle, settleDeadline, late)
		case waited > settleAnnounce && !announced && late != "":
			announced = true
			m.announce(v, late)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(settlePause):
		}
	}
}

func (m *Machine) udev(name string) string { return filepath.Join(m.at.root, "run/udev", name) }

// udevBusy: while there are events to work on, there is a file queue.
func (m *Machine) udevBusy() bool {
	_, err := os.Stat(m.udev("queue"))
	return err == nil
}

// unsettled gives the first node of the disk that udev shows otherwise.
func (m *Machine) unsettled(v *inventory.Inventory, disk string) string {
	d, err := m.listed(disk)
	if err != nil {
		return "" // gone, or an image
	}
	numbers := map[string]string{d.node.Name: d.dev}
	for _, p := range d.parts {
		numbers[p.name] = p.dev
	}
	for _, n := range v.Family(disk) {
		if dev := numbers[n.Name]; dev != "" && !agrees(n, m.udevRecord(dev)) {
			return n.Name
		}
	}
	return ""
}

// udevRecord is what udev knows of a block device: its properties by name; nil
// where it does not know the device. In its database, below /run/udev/data, a
// line "E:NAME=VALUE" is a property.
func (m *Machine) udevRecord(dev string) map[string]string {
	data, err := os.ReadFile(m.udev("data/b" + dev))
	if err != nil {
		return nil
	}
	out := map[string]string{}
	for line := range strings.Lines(string(data)) {
		if property, ok := strings.CutPrefix(strings.TrimRight(line, "\n"), "E:"); ok {
			name, value, _ := strings.Cut(property, "=")
			out[name] = value
		}
	}
	return out
}

func agrees(n inventory.Node, record map[string]string) bool {
	if record == nil {
		return false
	}
	if n.Problem != "" {
		return true // what cannot be read cannot be compared
	}
	if n.Entry.UUID != "" && record["ID_PART_ENTRY_UUID"] != "" && !strings.EqualFold(n.Entry.UUID, record["ID_PART_ENTRY_UUID"]) {
		return false
	}
	c, ok := n.Content()
	foreign := slices.ContainsFunc(n.Contents, func(c fs.Content) bool { return c.Class != fs.FileSystem && c.Class != fs.Swap })
	switch {
	case ok && !foreign:
		return c.UUID == "" || strings.EqualFold(c.UUID, record["ID_FS_UUID"]) && sameLabel(c.Label, record["ID_FS_LABEL_ENC"])
	case len(n.Contents) == 0:
		return !kind.IsType(record["ID_FS_TYPE"]) // what was taken away is gone there too
	}
	return true
}

// sameLabel compares a label with udev's property of it, where every byte that is not plain
// is written \xNN. Blanks at the end are not told from none.
func sameLabel(label, encoded string) bool {
	plain, err := strconv.Unquote(`"` + strings.ReplaceAll(encoded, `"`, `\x22`) + `"`)
	if err != nil {
		return true // it cannot be compared
	}
	return strings.TrimSpace(plain) == strings.TrimSpace(label)
}

// announce has the kernel tell udev of the device again.
func (m *Machine) announce(v *inventory.Inventory, name string) {
	n, _ := v.Node(name)
	dir := filepath.Join(m.at.sys, "block", n.Parent, name)
	_ = os.WriteFile(filepath.Join(dir, "uevent"), []byte("change"), 0o200) // without it, only the deadline is reached
}
