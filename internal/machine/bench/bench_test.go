package bench

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/block/file"
	"fundus/core/fs"
	"fundus/core/fs/ext"
	"fundus/core/inventory"
	"fundus/internal/machine"
	"fundus/internal/machine/conformance"
)

var ctx = context.Background()

func clock() time.Time { return time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC) }

// fernhill is a bench with a disk sdb of several partitions, one for each thing
// that a kernel refuses.
func fernhill(t *testing.T) *Bench {
	t.Helper()
	b, err := New(ctx, filepath.Join(t.TempDir(), "fernhill"), "fernhill", Layout{}, clock, uuid.New)
	if err != nil {
		t.Fatal(err)
	}
	if err := b.AddDisk(Disk{Name: "sdb", Size: "128MiB", Serial: "LS-20417"}); err != nil {
		t.Fatal(err)
	}
	dev, err := file.Open(filepath.Join(b.dir, "disks", "sdb.img"), true, block.DefaultGeometry)
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(conformance.Prepare(dev), dev.Close()); err != nil {
		t.Fatal(err)
	}
	if err := b.Do(ctx, nil, machine.Action{Verb: machine.ReadTable, Device: "sdb"}); err != nil {
		t.Fatal(err)
	}
	for _, dir := range conformance.Directories() {
		if err := os.MkdirAll(filepath.Join(b.Root(), dir), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	return b
}

// TestWatch: what another opener of the bench plugs in and pulls out is announced.
func TestWatch(t *testing.T) {
	b := fernhill(t)
	other, err := Open(b.dir, nil, clock)
	if err != nil {
		t.Fatal(err)
	}
	during, stop := context.WithTimeout(ctx, 10*time.Second)
	defer stop()
	if err := other.AddDisk(Disk{Name: "sdc", Size: "8MiB"}); err != nil {
		t.Fatal(err)
	}
	var said []string
	err = b.Watch(during, func() {}, func(e machine.Event) {
		said = append(said, fmt.Sprintf("%s %v %d", e.Name, e.Came, len(e.Nodes)))
		switch {
		case e.Came:
			err = other.RemoveDisk(ctx, e.Name, false)
		default:
			stop()
		}
	})
	if want := []string{"sdc true 1", "sdc false 0"}; err != nil || !slices.Equal(said, want) {
		t.Errorf("announced %q, %v; want %q", said, err, want)
	}
}

// TestConformance runs the common table of what a kernel refuses.
func TestConformance(t *testing.T) {
	subject := conformance.Subject{Disk: "sdb", RootDisk: "sda", RootSize: 64 << 30, Part: func(n int) string { return fmt.Sprintf("sdb%d", n) }}
	var b *Bench
	subject.Fresh = func() (machine.Machine, error) {
		b = fernhill(t)
		return b, nil
	}
	subject.SetReadOnly = func(on bool) error {
		b.config.Disks[1].ReadOnly = on
		return nil
	}
	for _, wrong := range conformance.Run(ctx, subject) {
		t.Error(wrong)
	}
}

// TestActionsHoldAndReverse runs the common list of actions there and back.
func TestActionsHoldAndReverse(t *testing.T) {
	subject := conformance.Subject{Disk: "sdb", Part: func(n int) string { return fmt.Sprintf("sdb%d", n) }}
	subject.Fresh = func() (machine.Machine, error) { return fernhill(t), nil }
	for _, wrong := range conformance.RunActions(ctx, subject) {
		t.Error(wrong)
	}
}

// TestMountTouchesTheBytes: a mount for writing counts in the superblock, one
// for reading changes nothing.
func TestMountTouchesTheBytes(t *testing.T) {
	b := fernhill(t)
	look := func() *ext.Superblock {
		dev, err := b.Open(ctx, "sdb")
		if err != nil {
			t.Fatal(err)
		}
		defer dev.Close()
		part, _ := block.NewSlice(dev, 20480*512, 20480*512)
		s, err := ext.Read(part)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	do := func(a machine.Action) {
		if err := b.Do(ctx, nil, a); err != nil {
			t.Fatal(err)
		}
	}
	do(machine.Action{Verb: machine.Mount, Device: "sdb1", UseArgs: machine.UseArgs{Where: "/srv/a", Options: "ro"}})
	if look().MountCount != 0 {
		t.Error("a read-only mount was counted")
	}
	do(machine.Action{Verb: machine.Unmount, UseArgs: machine.UseArgs{Where: "/srv/a"}})
	do(machine.Action{Verb: machine.Mount, Device: "sdb1", UseArgs: machine.UseArgs{Where: "/srv/a"}})
	if s := look(); s.MountCount != 1 || s.FileState() == fs.Clean || !s.Mounted.Equal(clock()) {
		t.Errorf("mounted: %d times, %s, %v", s.MountCount, s.FileState(), s.Mounted)
	}
	do(machine.Action{Verb: machine.Unmount, UseArgs: machine.UseArgs{Where: "/srv/a"}})
	if s := look(); s.FileState() != fs.Clean {
		t.Errorf("unmounted: %s", s.FileState())
	}
}

// TestPowerCut switches the bench off, and booting switches it on with the
// fault used up and another boot id.
func TestPowerCut(t *testing.T) {
	b := fernhill(t)
	was, _ := b.kernel()
	if err := b.PlantFault("sdb", &Fault{CutAtWrite: 1}); err != nil {
		t.Fatal(err)
	}
	claim, err := b.Claim(ctx, nil, []machine.Target{{Device: "sdb"}})
	if err != nil {
		t.Fatal(err)
	}
	dev, _ := claim.Device("sdb")
	if _, err := dev.WriteAt(make([]byte, 512), 0); !errors.Is(err, block.ErrPowerLost) {
		t.Fatalf("write = %v", err)
	}
	claim.Release()
	if _, err := b.Inventory(ctx); !errors.Is(err, ErrOff) {
		t.Errorf("switched off, Inventory = %v", err)
	}
	if _, err := b.Boot(ctx); err != nil {
		t.Fatal(err)
	}
	v, err := b.Inventory(ctx)
	if err != nil || v.Machine.BootID == was.BootID || b.config.Disks[1].Fault != nil {
		t.Errorf("after boot: %v, boot id %s, fault %v", err, v.Machine.BootID, b.config.Disks[1].Fault)
	}
	if use, ok := v.MountedAt("/"); !ok || use.Node != "sda1" || use.How != inventory.Mounted {
		t.Errorf("root: %+v", use)
	}
}

// TestConfigRefusals: each fault of bench.yaml is named.
func TestConfigRefusals(t *testing.T) {
	disk := func(lines string) string {
		return "host: fernhill\ndisks:\n  - name: sdb\n    size: 1GiB\n" + lines
	}
	for text, want := range map[string]string{
		"disks: []":                                "host is missing",
		disk("    colour: green"):                  "line 5: there is no key colour",
		disk("    image: ../../etc/shadow"):        "outside the bench",
		disk("    sectors: {logical: 100}"):        "sector of 100 bytes",
		disk("  - name: sdb\n    size: 1GiB"):      "has such a disk already",
		disk("  - name: SDC\n    size: 1GiB"):      "small letters",
		disk("  - name: sdc\n    size: lots"):      "not a size",
		disk("  - name: sdc\n    size: 50%"):       "an absolute size",
		disk("  - name: sdc\n    size: 1000B"):     "not a multiple of the sector",
		"host: [1, 2]":                             "line 1",
		strings.Repeat("a: &a [*a]\n", 3) + "\x00": "bench.yaml",
	} {
		if _, err := ParseConfig([]byte(text)); !errors.Is(err, ErrConfig) || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
	}
}

// FuzzConfig: any text gives an error or a configuration that is read back the
// same after writing.
func FuzzConfig(f *testing.F) {
	f.Add([]byte("host: fernhill\ndisks:\n  - name: sdb\n    size: 64GiB\n    sectors: {logical: 512, physical: 4096}\n    fault: {cut_at_write: 3}\n"))
	f.Add([]byte("host: 1\ndisks: [{name: sdb, size: 4096sectors}]"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if len(data) > 64<<10 {
			t.Skip()
		}
		c, err := ParseConfig(data)
		if err != nil {
			return
		}
		text, err := c.encode()
		if err != nil {
			t.Fatal(err)
		}
		again, err := ParseConfig(text)
		if err != nil || again.Host != c.Host || !slices.EqualFunc(again.Disks, c.Disks, func(a, b Disk) bool { return a.Name == b.Name && a.Size == b.Size && a.Sectors == b.Sectors }) {
			t.Fatalf("%v: %+v, then %+v", err, c, again)
		}
	})
}
