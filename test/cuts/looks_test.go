package cuts

import (
	"bytes"
	"context"
	"math/rand/v2"
	"sync/atomic"
	"testing"

	"fundus/core/block"
	"fundus/core/table"
	"fundus/internal/task/content"
	"fundus/internal/task/disk"
)

// looks counts how often a machine and its disk are looked at.
type looks struct {
	inventories, scans, probes int
	watched                    int64 // a byte of the disk, and how often it was read
	reads                      *atomic.Int64
}

// counted is a device that notes who begins to look: whoever probes reads the first
// bytes, of the disk or of a partition, in one piece.
type counted struct {
	block.Device
	looks *looks
}

func (r *rig) counted(dev block.Device) block.Device {
	if r.looks == nil {
		return dev
	}
	return counted{dev, r.looks}
}

const head = 64 << 10 // what a probe reads at once is larger than that

func (c counted) ReadAt(p []byte, off int64) (int, error) {
	if len(p) > head && off%(1<<20) == 0 {
		c.looks.probes++
		if off == 0 {
			c.looks.scans++
		}
	}
	if c.looks.reads != nil && off <= c.looks.watched && c.looks.watched < off+int64(len(p)) {
		c.looks.reads.Add(1)
	}
	return c.Device.ReadAt(p, off)
}

// TestFormerBytesAreReadTwice: what a format overwrites is read for its draft's code, and once more
// under the claim, where the deed's image and the code are made of the same reading.
func TestFormerBytesAreReadTwice(t *testing.T) {
	r, store := newRig(t, 512, 512), storeIn(t)
	must(t, r, store, herbarium()...)
	r.faulty = nil
	v, err := r.Inventory(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	n, _ := v.Node("sdb1")
	noise := make([]byte, n.Size)
	rand.NewChaCha8([32]byte{7}).Read(noise)
	if _, err := r.medium.WriteAt(noise, int64(n.Start)); err != nil {
		t.Fatal(err)
	}
	format, trial := &content.Format{Target: "sdb1", Kind: "ext2"}, r.clone()
	must(t, trial, storeIn(t), format)
	r.looks = &looks{watched: int64(n.Start) + 2<<20, reads: new(atomic.Int64)} // where no probe looks
	for zeros := make([]byte, 512); ; r.looks.watched += 512 {
		if got, err := block.ReadSized(trial.medium, r.looks.watched, 512, 512); err != nil {
			t.Fatal("nothing was overwritten: ", err)
		} else if bytes.Equal(got, zeros) {
			break
		}
	}
	must(t, r, store, format)
	if got := r.looks.reads.Load(); got != 2 {
		t.Errorf("a byte that is overwritten was read %d times", got)
	}
}

// TestLooksDoNotGrow: a commit looks at the machine when it is planned, once more under
// the claim, and once for the actions, whatever the number of partitions; and at a disk
// that it writes once more for each plan. What grows is what must: each new partition is
// probed where the disk is looked at with it, which is in both plans and for the actions,
// and its place before that, in both plans.
func TestLooksDoNotGrow(t *testing.T) {
	first := looks{}
	for _, n := range []int{1, 10, 60} {
		r, store := newRig(t, 512, 512), storeIn(t)
		r.medium = block.NewMemory(80<<20, block.DefaultGeometry)
		must(t, r, store, &disk.TableNew{Disk: "sdb", Scheme: table.GPT})
		r.faulty = nil
		var parts []disk.NewPart
		for range n {
			parts = append(parts, disk.NewPart{Size: size("1MiB")})
		}
		r.looks = &looks{}
		must(t, r, store, adding(parts...))
		got := *r.looks
		if first.inventories == 0 {
			first = got
		}
		t.Logf("%d partitions: %d inventories, %d scans, %d probes", n, got.inventories, got.scans, got.probes)
		if got.inventories > 3 || got.scans > 5 || got.inventories != first.inventories || got.scans != first.scans {
			t.Errorf("%d partitions: %d inventories and %d scans, with one %d and %d", n, got.inventories, got.scans, first.inventories, first.scans)
		}
		if most := got.scans + 5*n; got.probes > most {
			t.Errorf("%d partitions: %d probes, at most %d", n, got.probes, most)
		}
		if v, err := r.Inventory(context.Background()); err != nil || len(v.Nodes) != n+1 {
			t.Errorf("%d nodes, %v", len(v.Nodes), err)
		}
	}
}
