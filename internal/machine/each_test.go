package machine_test

import (
	"context"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"fundus/core/advice"
	"fundus/core/block"
	"fundus/core/fs/ext"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/scan"
	"fundus/core/table/gpt"
	"fundus/internal/machine"
	"fundus/test/amount"
)

// noted is a disk that keeps what was read of it.
type noted struct {
	block.Device
	reads [][2]int64
}

func (d *noted) ReadAt(p []byte, off int64) (int, error) {
	d.reads = append(d.reads, [2]int64{off, int64(len(p))})
	return d.Device.ReadAt(p, off)
}

// herbarium is a disk with a table and four file systems.
func herbarium(t testing.TB) block.Device {
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
		if _, err := ext.Make(t.Context(), part, ext.Usual(ext.Ext4).With("herbarium", uuid.New(), time.Unix(1, 0))); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := gpt.Write(dev, nil, table); err != nil {
		t.Fatal(err)
	}
	return dev
}

// TestALookReadsLittle: no disk or partition is read beyond a MiB, and none twice.
func TestALookReadsLittle(t *testing.T) {
	dev := &noted{Device: herbarium(t)}
	node := inventory.Node{Name: "sdb", Form: inventory.Disk, Size: 64 << 20, Geometry: block.DefaultGeometry}
	if found := scan.Disk(node, dev); len(found) != 5 || advice.Holds(found[4]) != "ext4" {
		t.Fatalf("%d nodes", len(found))
	}
	sum, twice := int64(0), map[[2]int64]int{}
	for _, r := range dev.reads {
		sum += r[1]
		if twice[r]++; twice[r] > 1 {
			t.Errorf("%d bytes at byte %d are read %d times", r[1], r[0], twice[r])
		}
	}
	if sum > 5<<20 || len(dev.reads) > 5*6 {
		t.Errorf("%d reads of %d bytes of a disk with four partitions", len(dev.reads), sum)
	}
	t.Logf("%d reads of %d KiB", len(dev.reads), sum>>10)
}

// meeting is a disk that answers once as many others are being read at the same time.
type meeting struct {
	block.Device
	all  *sync.WaitGroup
	once sync.Once
}

func (m *meeting) ReadAt(p []byte, off int64) (int, error) {
	m.once.Do(func() { m.all.Done(); m.all.Wait() })
	return m.Device.ReadAt(p, off)
}

// TestDisksAreLookedAtTogether: four disks of which none answers before all four were
// asked are all looked at. One after the other, none ever would be.
func TestDisksAreLookedAtTogether(t *testing.T) {
	const disks = 4
	dev, all := herbarium(t), &sync.WaitGroup{}
	all.Add(disks)
	node := inventory.Node{Name: "sdb", Form: inventory.Disk, Size: 64 << 20, Geometry: block.DefaultGeometry}
	found, err := machine.Each(context.Background(), disks, func(int) []inventory.Node { return scan.Disk(node, &meeting{Device: dev, all: all}) })
	if err != nil || len(found) != disks*5 {
		t.Errorf("%d nodes, %v", len(found), err)
	}
}

// slow is a disk whose every read takes as long as a platter takes to turn a little.
type slow struct {
	block.Device
	each time.Duration
}

func (s slow) ReadAt(p []byte, off int64) (int, error) {
	time.Sleep(s.each)
	return s.Device.ReadAt(p, off)
}

// BenchmarkLookAtSlowDisks looks at 200 disks whose reads take 4 ms each, beside the
// same reads done plainly, as many at a time.
func BenchmarkLookAtSlowDisks(b *testing.B) {
	const disks, wait = 200, 4 * time.Millisecond
	dev := herbarium(b)
	node := inventory.Node{Name: "sdb", Form: inventory.Disk, Size: 64 << 20, Geometry: block.DefaultGeometry}
	first := &noted{Device: dev}
	scan.Disk(node, first)
	timed := func(look func(d block.Device) []inventory.Node) time.Duration {
		began := time.Now()
		if _, err := machine.Each(context.Background(), disks, func(int) []inventory.Node { return look(slow{dev, wait}) }); err != nil {
			b.Fatal(err)
		}
		return time.Since(began)
	}
	for b.Loop() {
		plain := timed(func(d block.Device) []inventory.Node {
			for _, r := range first.reads {
				if _, err := d.ReadAt(make([]byte, r[1]), r[0]); err != nil {
					b.Error(err)
				}
			}
			return nil
		})
		took := timed(func(d block.Device) []inventory.Node { return scan.Disk(node, d) })
		amount.Figure(b, "a look at 200 disks whose reads take 4 ms", took, plain, 1.5)
	}
}
