package cuts

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/table"
	"fundus/internal/deed"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/stage"
	"fundus/internal/task"
	"fundus/internal/task/content"
	"fundus/internal/task/disk"
	"fundus/internal/task/past"
	"fundus/test/amount"
)

func must(t *testing.T, r *rig, store *deed.Store, requests ...task.Request) *deed.Deed {
	t.Helper()
	var last *deed.Deed
	for _, q := range requests {
		d, err := r.commit(store, q)
		if err != nil {
			t.Fatalf("%s: %v", q.Verb(), err)
		}
		last = d
	}
	return last
}

func herbarium() []task.Request {
	return []task.Request{&disk.TableNew{Disk: "sdb", Scheme: table.GPT}, adding(disk.NewPart{Size: size("30MiB")}), &content.Format{Target: "sdb1", Kind: "ext4", Label: "herbarium"}}
}

// TestSamePlanSameCode: the code depends on request, seed, clock and machine,
// and on nothing else; any of them changes it.
func TestSamePlanSameCode(t *testing.T) {
	r, store := newRig(t, 512, 512), storeIn(t)
	must(t, r, store, herbarium()[:2]...)
	code := func(seed byte, q task.Request) string {
		s := task.Conditions{Machine: r, Store: store, Clock: clock}
		s.Seed[5] = seed
		plan, err := task.Plan(context.Background(), s, q)
		if err != nil {
			t.Fatal(err)
		}
		defer plan.Close()
		return plan.Draft.Code
	}
	format := func(label string) task.Request { return &content.Format{Target: "sdb1", Kind: "ext4", Label: label} }
	first := code(1, format("a"))
	if again := code(1, format("a")); again != first {
		t.Errorf("%s, then %s", first, again)
	}
	if other := code(1, format("b")); other == first {
		t.Error("another label, the same code")
	}
	if other := code(2, format("a")); other == first {
		t.Error("another seed, the same code")
	}
	if _, err := r.medium.WriteAt([]byte(strings.Repeat("x", 512)), 1<<20+1024); err != nil {
		t.Fatal(err)
	}
	if other := code(1, format("a")); other == first {
		t.Error("other bytes beneath, the same code")
	}
}

// TestChangedUnderTheClaim: what is planned under the claim must be what was
// reviewed; otherwise nothing is written.
func TestChangedUnderTheClaim(t *testing.T) {
	r, store := newRig(t, 512, 512), storeIn(t)
	must(t, r, store, herbarium()[:2]...)
	s := task.Conditions{Machine: r, Store: store, Clock: clock}
	request := &content.Format{Target: "sdb1", Kind: "ext4"}
	plan, err := task.Plan(context.Background(), s, request)
	if err != nil {
		t.Fatal(err)
	}
	defer plan.Close()
	if _, err := r.medium.WriteAt([]byte(strings.Repeat("x", 512)), 1<<20+1024); err != nil {
		t.Fatal(err)
	}
	before := r.clone()
	c := deed.Commit{Store: store, Machine: r, Reviewed: &plan.Draft, Plan: func(ctx context.Context) (*draft.Plan, error) { return task.Again(ctx, s, request) }}
	if _, err := c.Run(context.Background()); !errors.Is(err, draft.ErrChanged) {
		t.Fatalf("Run = %v", err)
	}
	if err := same(r, before); err != nil {
		t.Error(err)
	}
}

// TestNoRoomForTheDeed: without room for its images nothing is begun.
func TestNoRoomForTheDeed(t *testing.T) {
	r, store := newRig(t, 512, 512), storeIn(t)
	store.Free = func(string) (int64, error) { return 1 << 20, nil }
	_, err := r.commit(store, herbarium()[0])
	if !errors.Is(err, deed.ErrSpace) || !strings.Contains(err.Error(), "--state DIR") {
		t.Errorf("commit = %v", err)
	}
	if all, _ := store.List(); len(all) != 0 || r.medium.Phases() != 0 {
		t.Errorf("%d deeds; the disk was written", len(all))
	}
}

// TestInterrupted: after a signal the commit takes back what it did.
func TestInterrupted(t *testing.T) {
	r, store := newRig(t, 512, 512), storeIn(t)
	must(t, r, store, herbarium()...)
	before := r.clone()
	ctx, cancel := context.WithCancel(context.Background())
	s := task.Conditions{Machine: r, Store: store, Clock: clock}
	request := &content.Format{Target: "sdb1", Kind: "ext4", Label: "mosses"}
	plan, err := task.Plan(ctx, s, request)
	if err != nil {
		t.Fatal(err)
	}
	defer plan.Close()
	c := deed.Commit{Store: store, Machine: r, Reviewed: &plan.Draft, Progress: nil,
		Plan: func(ctx context.Context) (*draft.Plan, error) { return task.Again(ctx, s, request) }}
	stop := &stopping{rig: r, cancel: cancel}
	c.Machine = stop
	_, err = c.Run(ctx)
	var back *deed.TakenBackError
	if !errors.As(err, &back) || !errors.Is(err, context.Canceled) {
		t.Fatalf("Run = %v", err)
	}
	if err := r.faulty.Close(); err != nil {
		t.Fatal(err)
	}
	if err := same(r, before); err != nil {
		t.Error(err)
	}
}

// TestALongOneEndsAtOnce: a signal while much is being written ends the commit after one
// piece more, and what is unfinished is fenced and recovered in either direction.
func TestALongOneEndsAtOnce(t *testing.T) {
	for _, way := range []deed.Direction{deed.Back, deed.Forward} {
		r, store := newRig(t, 512, 512), storeIn(t)
		r.larger()
		before := r.clone()
		ctx, cancel := context.WithCancel(context.Background())
		s := task.Conditions{Machine: r, Store: store, Clock: clock}
		request := &content.Format{Target: "sdb", Kind: "ext2", Asked: map[string]string{"inode-every": "1KiB", "inode-size": "512B", "block": "1KiB"}}
		plan, err := task.Plan(ctx, s, request)
		if err != nil {
			t.Fatal(err)
		}
		defer plan.Close()
		long := &tiring{rig: r, cancel: cancel, last: 10}
		c := deed.Commit{Store: store, Machine: long, Reviewed: &plan.Draft, Plan: func(ctx context.Context) (*draft.Plan, error) { return task.Again(ctx, s, request) }}
		_, err = c.Run(ctx)
		var midway *deed.MidwayError
		if !errors.As(err, &midway) || !errors.Is(err, context.Canceled) || long.seen != long.last || midway.Way().Line() != "fundus recover "+midway.Deed {
			t.Fatalf("Run = %v; %d pieces of zeros", err, long.seen)
		}
		if err := r.faulty.Close(); err != nil {
			t.Fatal(err)
		}
		r.faulty = nil
		if s := seen(r); len(s.fenced) != 1 || s.mixed != "" {
			t.Errorf("a kernel would find %v", s)
		}
		if err := r.recover(store, way); err != nil {
			t.Fatal(err)
		}
		if s := seen(r).String(); way == deed.Forward && !strings.Contains(s, "ext2//") {
			t.Errorf("recovered forward: %s", s)
		}
		if err := same(r, before); way == deed.Back && err != nil {
			t.Errorf("recovered back: %v", err)
		}
	}
}

// tiring sends the signal when zeros are written for the last time that it wants to see.
type tiring struct {
	*rig
	cancel     func()
	seen, last int
}

type tired struct {
	block.Device
	z *tiring
}

func (d tired) WriteZeroes(off, n int64) error {
	if d.z.seen++; d.z.seen == d.z.last {
		d.z.cancel()
	}
	return d.Device.WriteZeroes(off, n)
}

func (z *tiring) Claim(ctx context.Context, v *inventory.Inventory, targets []machine.Target) (*machine.Claim, error) {
	claim, err := z.rig.Claim(ctx, v, targets)
	if err != nil {
		return nil, err
	}
	dev, err := claim.Device("sdb")
	return machine.NewClaim(map[string]block.Device{"sdb": tired{dev, z}}, nil), err
}

// stopping sends the signal at the first sync after the claim.
type stopping struct {
	*rig
	cancel func()
}

type cancelling struct {
	block.Device
	cancel func()
}

func (c cancelling) Sync() error { c.cancel(); return c.Device.Sync() }

func (s *stopping) Claim(ctx context.Context, v *inventory.Inventory, targets []machine.Target) (*machine.Claim, error) {
	claim, err := s.rig.Claim(ctx, v, targets)
	if err != nil {
		return nil, err
	}
	dev, err := claim.Device("sdb")
	return machine.NewClaim(map[string]block.Device{"sdb": cancelling{dev, s.cancel}}, nil), err
}

// TestUndoIsRefusedAfterALaterWrite and names the place; told to, it goes over
// it and says what is lost.
func TestUndoIsRefusedAfterALaterWrite(t *testing.T) {
	r, store := newRig(t, 512, 512), storeIn(t)
	must(t, r, store, herbarium()...)
	if err := block.WriteBytes(r.medium, []byte("moss"), 1<<20+1024+0x88); err != nil {
		t.Fatal(err)
	}
	_, err := r.commit(store, &past.Undo{})
	if !errors.Is(err, deed.ErrSince) || !strings.Contains(err.Error(), "the superblock of the ext4 on sdb1") {
		t.Errorf("undo = %v", err)
	}
	must(t, r, store, &past.Undo{Over: true})
	if now := seen(r); strings.Contains(now.String(), "ext4") {
		t.Errorf("still there: %v", now)
	}
}

// TestUndoGoesNewestFirst: a deed below a newer one is refused by its name.
func TestUndoGoesNewestFirst(t *testing.T) {
	r, store := newRig(t, 512, 512), storeIn(t)
	first := must(t, r, store, herbarium()[:2]...)
	must(t, r, store, herbarium()[2])
	if _, err := r.commit(store, &past.Undo{Deed: first.ID}); !errors.Is(err, deed.ErrNewer) {
		t.Errorf("undo of the older = %v", err)
	}
	must(t, r, store, &past.Undo{}, &past.Undo{}, &past.Undo{})
	if _, err := r.commit(store, &past.Undo{}); !errors.Is(err, deed.ErrNone) {
		t.Errorf("a fourth undo = %v", err)
	}
	if !blank(r) {
		t.Error("three undos do not give the blank disk back")
	}
}

func blank(r *rig) bool {
	b, err := block.ReadSized(r.medium, 0, diskSize, diskSize)
	return err == nil && block.IsZero(b)
}

// TestTasksChain: on one stage, the next task sees what the last one made; and
// before and after are the same function on two readers.
func TestTasksChain(t *testing.T) {
	r := newRig(t, 512, 512)
	v, err := r.Inventory(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	s := stage.New(r, v, block.Spill{})
	defer s.Close()
	write := func(label string) {
		target := machine.Target{Device: "sdb", Start: 1 << 20, Size: 30 << 20, Hold: machine.HoldContent}
		err := s.Write(context.Background(), "write", target, func(dev block.Device) error {
			_, err := dev.WriteAt([]byte(strings.Repeat(label, 1024)), 4096)
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	write("a")
	write("b")
	if err := s.MakeDir("/srv/herbarium/deep"); err != nil {
		t.Fatal(err)
	}
	state, err := s.ReadFile("/srv/herbarium")
	if err != nil || !state.Dir || len(s.Steps()) != 5 {
		t.Errorf("%+v, %v, %d steps", state, err, len(s.Steps()))
	}
	strokes := s.Strokes(make([]byte, 512))
	got := make([]byte, 1)
	if err := block.ReadFull(strokes[0].Bytes.After, got, 1<<20+4096); err != nil || got[0] != 'a' {
		t.Errorf("after the first step: %q, %v", got, err)
	}
	if err := block.ReadFull(strokes[1].Bytes.Before, got, 1<<20+4096); err != nil || got[0] != 'a' {
		t.Errorf("before the second step: %q, %v", got, err)
	}
	if _, err := os.Stat(filepath.Join(r.root, "srv")); err == nil || !blank(r) {
		t.Error("a stage wrote to the machine")
	}
}

// TestLosses: what is destroyed must be named, each thing once; bytes that
// nobody recognises count too.
func TestLosses(t *testing.T) {
	r, store := newRig(t, 512, 512), storeIn(t)
	must(t, r, store, herbarium()...)
	plan := func(q task.Request) *draft.Draft {
		p, err := task.Plan(context.Background(), task.Conditions{Machine: r, Store: store, Clock: clock}, q)
		if err != nil {
			t.Fatal(err)
		}
		defer p.Close()
		return &p.Draft
	}
	d := plan(&disk.TableNew{Disk: "sdb", Scheme: table.GPT})
	if len(d.Losses) != 1 || d.Losses[0].Node != "sdb1" || d.Losses[0].Name != "herbarium" {
		t.Fatalf("losses: %+v", d.Losses)
	}
	for _, c := range []struct {
		names []string
		ok    bool
	}{{nil, false}, {[]string{"mosses"}, false}, {[]string{"herbarium"}, true}, {[]string{"LS-20417"}, true}, {[]string{"0417"}, true}, {[]string{"herbarium", "mosses"}, false}} {
		needs, err := d.Open(draft.Given{Lose: c.names})
		if (err == nil && len(needs) == 0) != c.ok {
			t.Errorf("--lose=%v: %v, %v", c.names, needs, err)
		}
	}
	must(t, r, store, &disk.PartitionRemove{Targets: []string{"sdb1"}})
	again := adding(disk.NewPart{Size: size("30MiB")})
	if again.Content = "erase"; len(plan(again).Losses) != 1 || plan(again).Losses[0].Name != "herbarium" {
		t.Errorf("what lies beneath a new partition is lost: %+v", plan(again).Losses)
	}
	again.Content = "keep"
	must(t, r, store, again)
	if err := r.medium.WriteZeroes(1<<20, 8192); err != nil {
		t.Fatal(err)
	}
	if err := block.WriteBytes(r.medium, []byte("notes of the curator"), 1<<20+9000); err != nil {
		t.Fatal(err)
	}
	if d := plan(&content.Format{Target: "sdb1", Kind: "ext4"}); len(d.Losses) != 1 || !strings.Contains(d.Losses[0].What, "not recognised") {
		t.Errorf("unknown bytes: %+v", d.Losses)
	}
}

// TestFormatLeavesOneSignature: whatever was there, of several kinds, at the
// start and the end, only the new file system is recognised afterwards.
func TestFormatLeavesOneSignature(t *testing.T) {
	r, store := newRig(t, 512, 512), storeIn(t)
	must(t, r, store, herbarium()[:1]...)
	must(t, r, store, adding(disk.NewPart{Size: size("30MiB")}))
	for off, text := range map[int64]string{0: "XFSB\x00\x00\x10\x00\x00\x00\x00\x00\x00\x00\x10\x00", 4086: "SWAPSPACE2", 1024: "\x01\x00\x00\x00", 510: "\x55\xAA"} {
		if err := block.WriteBytes(r.medium, []byte(text), 1<<20+off); err != nil {
			t.Fatal(err)
		}
	}
	must(t, r, store, &content.Format{Target: "sdb1", Kind: "ext4", Label: "clean"})
	v, err := r.Inventory(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	n, _ := v.Node("sdb1")
	if len(n.Contents) != 1 || n.Contents[0].Kind != "ext4" || n.Contents[0].State != fs.Clean {
		t.Errorf("contents: %+v", n.Contents)
	}
}

// zeroing is a request that makes 700 MiB zeros, beside a sector that is none.
type zeroing struct{}

func (zeroing) Verb() string { return "zeroing" }

func (zeroing) Plan(ctx context.Context, p *task.Planner) error {
	target := machine.Target{Device: "sdb", Size: 1 << 30, Hold: machine.HoldContent}
	return p.Stage.Write(ctx, "zero it", target, func(dev block.Device) error {
		if err := dev.WriteZeroes(4096, 700<<20); err != nil {
			return err
		}
		_, err := dev.WriteAt([]byte(strings.Repeat("x", 512)), 0)
		return err
	})
}

// TestZerosDoNotCount: what is zero before and after is not stored, and so does not count
// against the limit of a deed's images; what is not zero does.
func TestZerosDoNotCount(t *testing.T) {
	r, store := newRig(t, 512, 512), storeIn(t)
	r.medium = block.NewMemory(1<<30, block.DefaultGeometry)
	store.Images = 1 << 20
	d, err := r.commit(store, zeroing{})
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"before.img", "after.img"} {
		if info, err := os.Stat(filepath.Join(store.Dir, "deeds", d.ID, name)); err != nil || info.Size() > 4096 {
			t.Errorf("%s: %d bytes, %v", name, info.Size(), err)
		}
	}
	store.Images = 100
	r.faulty = nil
	noise := make([]byte, 4096)
	for i := range noise {
		noise[i] = byte(amount.Rand(i).Uint32())
	}
	if err := block.WriteBytes(r.medium, noise, 1<<20); err != nil {
		t.Fatal(err)
	}
	if _, err := r.commit(store, zeroing{}); !errors.Is(err, deed.ErrLimit) {
		t.Errorf("4096 bytes of before: %v", err)
	}
}
