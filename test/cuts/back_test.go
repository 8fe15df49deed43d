package cuts

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/google/uuid"

	"fundus/core/table"
	"fundus/internal/deed"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/machine/bench"
	"fundus/internal/task"
	"fundus/internal/task/all"
	"fundus/internal/task/boot"
	"fundus/internal/task/content"
	"fundus/internal/task/disk"
	"fundus/internal/task/mount"
	"fundus/internal/task/past"
)

// road is a disk's whole way as one request: table, partitions, swap, a file system, its lines,
// the mount with an owner's mode and a link.
type road struct{}

func (road) Verb() string { return "road" }

func (road) Plan(ctx context.Context, p *task.Planner) error {
	for _, r := range []task.Request{&disk.TableNew{Disk: "sdb", Scheme: table.GPT}, adding(disk.NewPart{Size: size("512MiB"), Type: "swap"}, disk.NewPart{Size: size("2GiB"), Name: "herbarium"}),
		&content.Format{Target: "sdb1", Kind: "swap"}, &content.Format{Target: "sdb2", Kind: "xfs", Label: "herbarium"}, &boot.FstabAdd{Target: "sdb1", Dir: "swap"},
		&mount.Mount{Target: "sdb2", Dir: "/srv/herbarium", Persist: true, Home: mount.Home{Mode: "2770", Owner: fmt.Sprintf("%d:%d", os.Getuid(), os.Getgid()), Link: "/herb"}}} {
		if err := p.Do(ctx, r); err != nil {
			return err
		}
	}
	return nil
}

// onBench commits a request on a bench.
func onBench(t *testing.T, b *bench.Bench, store *deed.Store, r task.Request) error {
	t.Helper()
	s := task.Conditions{Machine: b, Store: store, Clock: clock, Seed: [32]byte{7}, Decode: all.Decode}
	plan, err := task.Plan(t.Context(), s, r)
	if err != nil {
		return err
	}
	defer plan.Close()
	c := deed.Commit{Store: store, Machine: b, Reviewed: &plan.Draft, Seen: plan.Seen, Plan: func(ctx context.Context) (*draft.Plan, error) { return task.Again(ctx, s, r) }}
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

// evicting unmounts each of two file systems right before it writes there.
type evicting struct{}

func (evicting) Verb() string { return "evicting" }

func (evicting) Plan(ctx context.Context, p *task.Planner) error {
	for _, part := range []string{"sdb1", "sdb2"} {
		if err := p.Stage.Tell(ctx, machine.Action{Verb: machine.Unmount, Device: part, UseArgs: machine.UseArgs{Where: "/srv/" + part, Kind: "ext4"}}); err != nil {
			return err
		}
		if err := p.Do(ctx, &content.Format{Target: part, Kind: "ext4", Label: "new"}); err != nil {
			return err
		}
	}
	return nil
}

// TestAClaimGoesByWhatIsDone: a deed that gives several things free, each right before it writes
// there, claims each when it is free; so does its undo, which mounts them again in between.
func TestAClaimGoesByWhatIsDone(t *testing.T) {
	b, err := bench.New(t.Context(), filepath.Join(t.TempDir(), "fernhill"), "fernhill", bench.Layout{}, func() time.Time { return clock }, uuid.New)
	if err == nil {
		err = b.AddDisk(bench.Disk{Name: "sdb", Size: "1GiB", Serial: "LS-20417"})
	}
	store := deed.NewStore(b.StateDir(), func() time.Time { return clock })
	for _, r := range []task.Request{&disk.TableNew{Disk: "sdb", Scheme: table.GPT}, adding(disk.NewPart{Size: size("64MiB")}, disk.NewPart{Size: size("64MiB")}), &content.Format{Target: "sdb1", Kind: "ext4", Label: "a"}, &content.Format{Target: "sdb2", Kind: "ext4", Label: "b"},
		&mount.Mount{Target: "sdb1", Dir: "/srv/sdb1", Persist: true}, &mount.Mount{Target: "sdb2", Dir: "/srv/sdb2", Persist: true}} {
		if err = errors.Join(err, onBench(t, b, store, r)); err != nil {
			t.Fatalf("%s: %v", r.Verb(), err)
		}
	}
	stands := func(mounted int, labels ...string) {
		t.Helper()
		v, err := b.Inventory(t.Context())
		var got []string
		for _, part := range []string{"sdb1", "sdb2"} {
			n, _ := v.Node(part)
			c, _ := n.Content()
			got = append(got, c.Label)
		}
		if err != nil || !slices.Equal(got, labels) || len(v.Uses) != mounted+1 { // and the root
			t.Errorf("labels %v, %d uses, %v; want %v, %d", got, len(v.Uses), err, labels, mounted+1)
		}
	}
	stands(2, "a", "b")
	if err := onBench(t, b, store, evicting{}); err != nil {
		t.Fatal(err)
	}
	stands(0, "new", "new")
	if err := onBench(t, b, store, &past.Undo{}); err != nil {
		t.Fatal(err)
	}
	stands(2, "a", "b")
}
