package cuts

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/google/uuid"

	"fundus/core/table"
	"fundus/internal/deed"
	"fundus/internal/draft"
	"fundus/internal/machine/bench"
	"fundus/internal/task"
	"fundus/internal/task/content"
	"fundus/internal/task/disk"
	"fundus/internal/task/past"
	"fundus/internal/task/use"
)

// road is a disk's whole way as one request: table, partitions, swap, a file system, its lines,
// the mount with an owner's mode and a link.
type road struct{}

func (road) Verb() string { return "road" }

func (road) Plan(ctx context.Context, p *task.Planner) error {
	for _, r := range []task.Request{&disk.TableNew{Disk: "sdb", Scheme: table.GPT}, adding(disk.NewPart{Size: size("512MiB"), Type: "swap"}, disk.NewPart{Size: size("2GiB"), Name: "herbarium"}),
		&content.Format{Target: "sdb1", Kind: "swap"}, &content.Format{Target: "sdb2", Kind: "xfs", Label: "herbarium"}, &use.FstabAdd{Target: "sdb1", Dir: "swap"},
		&use.Mount{Target: "sdb2", Dir: "/srv/herbarium", Persist: true, Home: use.Home{Mode: "2770", Owner: fmt.Sprintf("%d:%d", os.Getuid(), os.Getgid()), Link: "/herb"}}} {
		if err := p.Do(ctx, r); err != nil {
			return err
		}
	}
	return nil
}

// onBench commits a request on a bench.
func onBench(t *testing.T, b *bench.Bench, store *deed.Store, r task.Request) error {
	t.Helper()
	s := task.Conditions{Machine: b, Store: store, Clock: clock, Seed: [32]byte{7}}
	plan, err := task.Plan(t.Context(), s, r)
	if err != nil {
		return err
	}
	defer plan.Close()
	c := deed.Commit{Store: store, Machine: b, Reviewed: &plan.Draft, Seen: plan.Seen, Plan: func(ctx context.Context) (*draft.Plan, error) { return task.Plan(ctx, s, r) }}
	_, err = c.Run(t.Context())
	return err
}

// TestTheWholeRoadIsTakenBack: the undo of a deed that mounts what it made unmounts it before
// it writes there, and can be carried out.
func TestTheWholeRoadIsTakenBack(t *testing.T) {
	b, err := bench.New(t.Context(), filepath.Join(t.TempDir(), "fernhill"), "fernhill", bench.Layout{}, func() time.Time { return clock }, uuid.New)
	if err == nil {
		err = b.AddDisk(bench.Disk{Name: "sdb", Size: "4GiB", Serial: "LS-20417"})
	}
	if err != nil {
		t.Fatal(err)
	}
	store := deed.NewStore(b.StateDir(), func() time.Time { return clock })
	for _, r := range []task.Request{road{}, &past.Undo{}} {
		if err := onBench(t, b, store, r); err != nil {
			t.Fatalf("%s: %v", r.Verb(), err)
		}
	}
	v, err := b.Inventory(t.Context())
	n, _ := v.Node("sdb")
	state, errFile := b.ReadFile("/herb")
	if err := errors.Join(err, errFile); err != nil || !n.Zeros || len(v.Family("sdb")) != 1 || !state.Missing || len(v.Areas) > 0 {
		t.Errorf("%v: sdb has %d nodes, zeros %v; link %+v", err, len(v.Family("sdb")), n.Zeros, state)
	}
}
