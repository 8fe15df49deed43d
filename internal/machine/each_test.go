package machine_test

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/fs/ext"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/scan"
	"fundus/core/table/gpt"
	"fundus/internal/machine"
)

// slow is a disk whose every read takes as long as it takes a platter to turn a
// little; it keeps what was read.
type slow struct {
	block.Device
	each  time.Duration
	reads [][2]int64
}

func (s *slow) ReadAt(p []byte, off int64) (int, error) {
	time.Sleep(s.each)
	s.reads = append(s.reads, [2]int64{off, int64(len(p))})
	return s.Device.ReadAt(p, off)
}

// herbarium is a disk with a table and four file systems.
func herbarium(t *testing.T) block.Device {
	t.Helper()
	dev := block.NewMemory(64<<20, block.DefaultGeometry)
	table, err := gpt.New(64<<20, 512, quantity.MiB, uuid.New())
	if err != nil {
		t.Fatal(err)
	}
	for n := range 4 {
		first := uint64(2048 + n*28672)
		if err := table.Add(n+1, gpt.Entry{Type: uuid.New(), Unique: uuid.New(), First: first, Last: first + 28671}); err != nil {
			t.Fatal(err)
		}
		part, err := block.NewSlice(dev, int64(first)*512, 28672*512)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := ext.Make(part, ext.Options{Label: "herbarium", UUID: uuid.New()}); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := gpt.Write(dev, nil, table); err != nil {
		t.Fatal(err)
	}
	return dev
}

// TestEachWaitsForDisksAlone: where every read waits for a disk, looking at many
// takes little longer than to read the same bytes plainly, as many at a time; and
// no disk or partition is read beyond a MiB.
func TestEachWaitsForDisksAlone(t *testing.T) {
	const disks, wait = 200, 4 * time.Millisecond
	dev := herbarium(t)
	first := &slow{Device: dev}
	node := inventory.Node{Name: "sdb", Form: inventory.Disk, Size: 64 << 20, Geometry: block.DefaultGeometry}
	if found := scan.Disk(node, first); len(found) != 5 || found[4].Holds() != "ext4" {
		t.Fatalf("%d nodes", len(found))
	}
	sum := int64(0)
	for _, r := range first.reads {
		sum += r[1]
	}
	if sum > 5<<20 {
		t.Errorf("%d bytes are read of a disk with four partitions", sum)
	}
	timed := func(look func(d *slow) []inventory.Node) time.Duration {
		began := time.Now()
		if _, err := machine.Each(context.Background(), disks, func(int) []inventory.Node { return look(&slow{Device: dev, each: wait}) }); err != nil {
			t.Fatal(err)
		}
		return time.Since(began)
	}
	plain := timed(func(d *slow) []inventory.Node {
		for _, r := range first.reads {
			if _, err := d.ReadAt(make([]byte, r[1]), r[0]); err != nil {
				t.Error(err)
			}
		}
		return nil
	})
	took := timed(func(d *slow) []inventory.Node { return scan.Disk(node, d) })
	fmt.Printf("looking at %d disks whose reads take %v: %v, the same %d reads (%d KiB a disk) plainly %v (%.2f times, limit 1.5)\n",
		disks, wait, took.Round(time.Millisecond), len(first.reads), sum>>10, plain.Round(time.Millisecond), float64(took)/float64(plain))
	if took > plain*3/2 {
		t.Errorf("%v and %v", took, plain)
	}
}
