package cuts

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"

	"fundus/core/block"
	"fundus/core/kind"
	"fundus/core/table"
	"fundus/internal/deed"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/task"
	"fundus/internal/task/content"
	"fundus/internal/task/disk"
	"fundus/internal/task/past"
	"fundus/test/amount"
)

// planted is an action of the rig's kernel that nothing takes back, as a growth of a
// mounted file system is one.
const planted machine.Verb = "planted"

// growing writes, has the machine do what has no way back, and writes again.
type growing struct{}

func (growing) Verb() string { return "growing" }

func (growing) Plan(ctx context.Context, p *task.Planner) error {
	put := func(word string, at int64) error {
		target := machine.Target{Device: "sdb", Start: 1 << 20, Size: 1 << 20, Hold: machine.HoldTable}
		return p.Stage.Write(ctx, "write "+word, target, func(dev block.Device) error {
			_, err := dev.WriteAt([]byte(strings.Repeat(word, 128)), at)
			return err
		})
	}
	if err := put("moss", 0); err != nil {
		return err
	}
	if err := p.Stage.TellOnce(ctx, machine.Action{Verb: planted, Device: "sdb", PartArgs: machine.PartArgs{Number: 77}}); err != nil {
		return err
	}
	return put("fern", 512)
}

func grown(r *rig) bool {
	holds, _ := r.Holds(context.Background(), machine.Action{Verb: planted, Device: "sdb", PartArgs: machine.PartArgs{Number: 77}})
	return holds
}

// TestNoWayBack: wherever a commit fails or is cut, what stands before a step that has no
// way back is taken back only as long as that has not come about; from then on it is
// completed, whatever direction is asked for. Undo is refused.
func TestNoWayBack(t *testing.T) {
	start := newRig(t, 512, 512)
	x, done := record(t, start, storeIn(t), func(r *rig) error { _, err := r.commit(r.recorder.store, growing{}); return err })
	if g := x.deed; g.Undo != draft.NotAfter || g.Last != 2 || !grown(done) {
		t.Fatalf("grade %q from step %d on", g.Undo, g.Last)
	}
	counts := map[string]int{}
	for n := range x.ops {
		for _, way := range []deed.Direction{deed.Back, deed.Forward} {
			r, store := x.at(t, n, uint64(n))
			begun := grown(r)
			if err := r.recover(store, way); err != nil {
				t.Fatalf("cut at %d, recover %s: %v", n, way, err)
			}
			want := start
			if way == deed.Forward || begun {
				want = done
			}
			if err := same(r, want); err != nil || grown(r) != (want == done) {
				t.Errorf("cut at %d (begun %v), recover %s: grown %v, %v", n, begun, way, grown(r), err)
			}
			counts[fmt.Sprintf("%s, begun %v", way, begun)]++
		}
		r, store := start.apart(t), storeIn(t)
		r.fault = block.Fault{FailAt: n, CutAt: block.Never, ReadErrorAt: block.Never}
		_, err := r.commit(store, growing{})
		_ = r.faulty.Close()
		var back *deed.TakenBackError
		switch {
		case errors.As(err, &back) && !grown(r):
			err = same(r, start)
			counts["taken back"]++
		case err == nil && grown(r):
			err = same(r, done)
			counts["completed"]++
		}
		if err != nil {
			t.Errorf("failure at %d: grown %v, %v", n, grown(r), err)
		}
	}
	if len(counts) != 6 {
		t.Errorf("only %v", counts)
	}
	t.Log(counts)
	r, store := start.apart(t), storeIn(t)
	must(t, r, store, growing{})
	for _, undo := range []*past.Undo{{Deed: "1"}, {Deed: "1", Over: true}} {
		if _, err := r.commit(store, undo); !errors.Is(err, deed.ErrNoUndo) || !strings.Contains(err.Error(), "step 2") {
			t.Errorf("undo = %v", err)
		}
	}
}

// TestDiscard: a file system of each kind is as whole on a device that reads as anything
// where it was discarded; what was there before comes back until the first byte is, and
// nothing is discarded at a recovery.
func TestDiscard(t *testing.T) {
	states := &amount.States{}
	for _, word := range kind.Words() {
		t.Run(word, func(t *testing.T) {
			start := newRig(t, 512, 512)
			start.larger()
			must(t, start, storeIn(t), &disk.TableNew{Disk: "sdb", Scheme: table.GPT}, adding(disk.NewPart{Size: size("80MiB")}), &content.Format{Target: "sdb1", Kind: "ext4", Label: "old"})
			start.faulty = nil
			over := &content.Format{Target: "sdb1", Kind: word, Discard: true}
			x, done := record(t, start, storeIn(t), func(r *rig) error { _, err := r.commit(r.recorder.store, over); return err })
			if x.deed.Undo != draft.NotAfter {
				t.Errorf("grade %q", x.deed.Undo)
			}
			p := &setting{story: story{name: "format as " + word + " with a discard"}, old: seen(start), fresh: seen(done)}
			counts := map[string]int{}
			for n := range x.ops {
				for _, way := range []deed.Direction{deed.Back, deed.Forward} {
					r, store := x.at(t, n, uint64(n))
					before := anyDiscarded(t, r)
					if _, err := states.See(r.medium, word, string(way)); err != nil {
						t.Fatal(err)
					}
					if err := r.recover(store, way); err != nil {
						t.Fatalf("cut at %d, recover %s: %v", n, way, err)
					}
					state := p.judge(t, r, fmt.Sprintf("cut at %d, recovered %s", n, way))
					if state == "fenced" || state == "old" && (way == deed.Forward || before) || anyDiscarded(t, r) && !before {
						t.Errorf("cut at %d (discarded before: %v), recover %s: %s, discarded %v", n, before, way, state, anyDiscarded(t, r))
					}
					counts[fmt.Sprintf("%s %s, discarded %v", way, state, before)]++
				}
			}
			if counts["back old, discarded false"] == 0 || counts["back new, discarded true"] == 0 || counts["forward new, discarded false"] == 0 {
				t.Errorf("only %v", counts)
			}
		})
	}
	fmt.Printf("cuts of a format with a discard: each recovered to what was before or after; of %v\n", states)
}

// anyDiscarded reports whether the rig discarded anything of the first partition.
func anyDiscarded(t *testing.T, r *rig) bool {
	t.Helper()
	gone := bytes.Repeat([]byte{discarded}, 512)
	for off := int64(1 << 20); off < 81<<20; {
		_, end, hole, err := r.medium.Next(off)
		if end = min(end, off+1<<20); err == nil && !hole {
			var b []byte
			b, err = block.ReadSized(r.medium, off, end-off, 1<<20)
			if bytes.Contains(b, gone) {
				return true
			}
		}
		if err != nil {
			t.Fatal(err)
		}
		off = end
	}
	return false
}

// TestWithoutUndo: nothing from before is kept; a commit that is cut short is fenced as
// any other, and can be completed and nothing else. So is one that fails.
func TestWithoutUndo(t *testing.T) {
	r := newRig(t, 512, 512)
	must(t, r, storeIn(t), herbarium()...)
	r.faulty = nil
	over := &content.Format{Target: "sdb1", Kind: "ext4", Label: "mosses"}
	forward := func(r *rig, store *deed.Store) (*deed.Deed, error) {
		s := task.Conditions{Machine: r, Store: store, Clock: clock, WithoutUndo: true}
		return r.commitSet(s, over)
	}
	x, done := record(t, r, storeIn(t), func(r *rig) error { _, err := forward(r, r.recorder.store); return err })
	if x.deed.Undo != draft.Never || !x.deed.Forward {
		t.Errorf("grade %q", x.deed.Undo)
	}
	for _, s := range x.deed.Strokes {
		if s.Bytes != nil && s.Bytes.Before[0] != s.Bytes.Before[1] {
			t.Error("bytes from before are kept")
		}
	}
	p := &setting{story: story{name: "without undo"}, old: seen(r), fresh: seen(done)}
	states := map[string]int{}
	for n := range x.ops {
		c, store := x.at(t, n, uint64(n))
		states[p.judge(t, c, fmt.Sprintf("cut at %d", n))]++
		if err := c.recover(store, deed.Back); !errors.Is(err, deed.ErrForward) {
			t.Fatalf("cut at %d, recover back = %v", n, err)
		}
		if err := c.recover(store, deed.Either); err != nil {
			t.Fatalf("cut at %d: %v", n, err)
		}
		if err := same(c, done); err != nil {
			t.Fatalf("cut at %d, recovered: %v", n, err)
		}
	}
	if states["old"] == 0 || states["fenced"] == 0 {
		t.Errorf("the cuts saw %v", states)
	}
	c, store := r.apart(t), storeIn(t)
	c.fault = block.Fault{FailAt: 3, CutAt: block.Never, ReadErrorAt: block.Never}
	var midway *deed.MidwayError
	if _, err := forward(c, store); !errors.As(err, &midway) {
		t.Errorf("a failure = %v", err)
	}
	if _, err := done.commit(x.store, &past.Undo{Deed: "1"}); !errors.Is(err, deed.ErrNoUndo) {
		t.Errorf("undo = %v", err)
	}
}
