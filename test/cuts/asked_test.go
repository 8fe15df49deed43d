package cuts

import (
	"context"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/fs/ext"
	"fundus/core/kind"
	"fundus/core/table"
	"fundus/core/table/schemes"
	"fundus/internal/task"
	"fundus/internal/task/content"
	"fundus/internal/task/disk"
)

// forgetful is an editor that writes another table than the one that it shows.
type forgetful struct {
	table.Editor
	written table.Editor
}

func (f forgetful) Write(dev block.Device) (string, error) { return f.written.Write(dev) }

// wrongly asks for two partitions, of which the editor writes one.
type wrongly struct{}

func (wrongly) Verb() string { return "wrongly" }

func (wrongly) Plan(ctx context.Context, p *task.Planner) error {
	if err := p.Do(ctx, &disk.TableNew{Disk: "sdb", Scheme: table.GPT}); err != nil {
		return err
	}
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	n, _ := v.Node("sdb")
	dev, err := p.Stage.Open(ctx, "sdb")
	if err != nil {
		return err
	}
	asked, _, err := schemes.Open(dev)
	if err != nil {
		return err
	}
	written, _, err := schemes.Open(dev)
	if err != nil {
		return err
	}
	part := table.Partition{Type: "0fc63daf-8483-4772-8e79-3d69d8477de4", UUID: p.Fresh().String()}
	part.Span.Start, part.Span.Count = 2048, 2048
	for _, e := range []table.Editor{asked, written} {
		if err := e.Add(part); err != nil {
			return err
		}
	}
	part.UUID, part.Span.Start = p.Fresh().String(), 4096
	if err := asked.Add(part); err != nil {
		return err
	}
	return p.Change(ctx, n, forgetful{asked, written})
}

// TestATableIsReadBack: a table that is not what was asked for is refused, whatever the
// editor says.
func TestATableIsReadBack(t *testing.T) {
	s := task.Conditions{Machine: newRig(t, 512, 512)}
	_, err := task.Plan(context.Background(), s, wrongly{})
	if err == nil || !strings.Contains(err.Error(), "a fault of Fundus") || !strings.Contains(err.Error(), "2 at sectors 4096-6143") {
		t.Errorf("Plan = %v", err)
	}
}

// TestAJournalTakesNoLabel: a journal of ext4 on a device of its own belongs to a file
// system elsewhere, which knows it by its identifier.
func TestAJournalTakesNoLabel(t *testing.T) {
	r := newRig(t, 512, 512)
	dev := r.medium
	if _, err := ext.Make(t.Context(), dev, ext.Usual(ext.Ext4).With("", uuid.New(), time.Unix(1, 0))); err != nil {
		t.Fatal(err)
	}
	b, err := block.ReadSized(dev, 1024, 1024, 1024)
	if err != nil {
		t.Fatal(err)
	}
	binary.LittleEndian.PutUint32(b[96:], binary.LittleEndian.Uint32(b[96:])|8) // the incompatible feature of a journal device
	binary.LittleEndian.PutUint32(b[1020:], ^crc32.Checksum(b[:1020], crc32.MakeTable(crc32.Castagnoli)))
	if err := block.WriteBytes(dev, b, 1024); err != nil {
		t.Fatal(err)
	}
	v, err := r.Inventory(context.Background())
	if c, ok := v.Nodes[0].Content(); err != nil || !ok || c.Kind != "ext journal" || c.State == fs.Damaged {
		t.Fatalf("%+v, %v", c, err)
	}
	if _, err := task.Plan(context.Background(), task.Conditions{Machine: r}, &content.Label{Target: "sdb", Label: "mosses"}); !errors.Is(err, kind.ErrCannot) {
		t.Errorf("Plan = %v", err)
	}
}
