package cuts

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"fundus/core/inventory"
	"fundus/internal/deed"
	"fundus/internal/draft"
	"fundus/internal/task"
	"fundus/internal/task/boot"
	"fundus/internal/task/disk"
	"fundus/test/amount"
)

type request = task.Request

// chain is several requests as one: each is planned behind the one before it.
type chain struct{ Requests []request }

func whole(list ...request) *chain { return &chain{list} }

func (*chain) Verb() string { return "several" }

func (c *chain) Plan(ctx context.Context, p *task.Planner) error {
	for _, r := range c.Requests {
		if err := p.Do(ctx, r); err != nil {
			return err
		}
	}
	return nil
}

// outcome is what became of a rig: the devices, the text files, or why not.
type outcome struct {
	nodes []inventory.Node
	files string
	err   error
	rig   *rig
}

func look(t *testing.T, r *rig, err error) outcome {
	t.Helper()
	r.faulty = nil
	v, errLook := r.Inventory(context.Background())
	if errLook != nil {
		t.Fatal(errLook)
	}
	return outcome{v.Nodes, tree(t, r.root), err, r}
}

// apply does one request after the other, each with the seed that it has as a part of a
// chain. Nothing to do is no failure.
func inTurn(t *testing.T, start *rig, seed [32]byte, list []request) outcome {
	t.Helper()
	r := start.apart(t)
	for i, q := range list {
		_, err := r.commitWith(storeIn(t), q, task.SeedOf(seed, i+1))
		if errors.Is(err, errNothing) {
			err = nil
		}
		r.faulty = nil
		if err != nil {
			return look(t, r, fmt.Errorf("%d: %w", i, err))
		}
	}
	return look(t, r, nil)
}

// atOnce plans them as one draft. What the stage foretold is what is there afterwards.
func atOnce(t *testing.T, start *rig, seed [32]byte, list []request) outcome {
	t.Helper()
	r := start.apart(t)
	s := task.Conditions{Machine: r, Store: storeIn(t), Clock: clock, Seed: seed}
	plan, err := task.Plan(context.Background(), s, whole(list...))
	if err != nil {
		return look(t, r, err)
	}
	foretold := plan.Draft
	plan.Close()
	if foretold.Empty() {
		return look(t, r, nil)
	}
	inner := func(p draft.Part) bool { return strings.HasPrefix(p.Title, "set the type of") } // a request's own
	if parts := slices.DeleteFunc(slices.Clone(foretold.Parts), inner); len(parts) != len(list)+1 {
		t.Fatalf("%d requests, %d parts", len(list), len(parts))
	}
	c := deed.Commit{Store: s.Store, Machine: r, Reviewed: &foretold, Seen: plan.Seen, Plan: func(ctx context.Context) (*draft.Plan, error) { return task.Again(ctx, s, whole(list...)) }}
	_, err = c.Run(context.Background())
	out := look(t, r, err)
	if err == nil && foretold.After != nil && !reflect.DeepEqual(foretold.After, out.nodes) {
		t.Errorf("foretold\n%+v\nthere is\n%+v", foretold.After, out.nodes)
	}
	return out
}

// agree holds both ways against each other.
func agree(t *testing.T, start *rig, list []request, states *amount.States) (fine bool) {
	t.Helper()
	seed := [32]byte{9, byte(len(start.known))}
	one, all := inTurn(t, start, seed, list), atOnce(t, start, seed, list)
	name := ""
	for _, r := range list {
		args, _ := json.Marshal(r)
		name += fmt.Sprintf("%s %s; ", r.Verb(), args)
	}
	switch {
	case (one.err == nil) != (all.err == nil):
		t.Errorf("%s\none after the other: %v\nas one draft: %v", name, one.err, all.err)
	case one.err != nil:
		return false
	case !reflect.DeepEqual(one.nodes, all.nodes):
		t.Errorf("%s\none after the other:\n%+v\nas one draft:\n%+v", name, one.nodes, all.nodes)
	case one.files != all.files:
		t.Errorf("%s\none after the other:\n%s\nas one draft:\n%s", name, one.files, all.files)
	default:
		if err := same(one.rig, all.rig); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		if _, err := states.See(all.rig.medium, all.files); err != nil {
			t.Fatal(err)
		}
	}
	return true
}

// requests are those of all stories, each once. An undo is about what was committed, so
// that it cannot be part of a draft with that.
func requests() (list []request) {
	known := map[string]bool{}
	for _, s := range stories() {
		_, several := s.cut.(*chain)
		args, _ := json.Marshal(s.cut)
		if name := s.cut.Verb() + string(args); !several && s.made == nil && !s.keep && !s.large && !known[name] {
			known[name] = true
			list = append(list, s.cut)
		}
	}
	return append(list, &boot.FstabAdd{Target: "sdb1", Dir: "/srv/herbarium"}, &disk.PartitionRemove{Targets: []string{"sdb1"}, References: "drop"})
}

// TestChainedIsOneAfterTheOther: requests planned on one stage, each behind the other,
// and committed as one deed, give the same machine and the same bytes as requests that
// are committed one by one; or both ways are refused. Every story is followed by every
// request (a sample by twenty of them), and by a seeded choice of two.
func TestChainedIsOneAfterTheOther(t *testing.T) {
	all := requests()
	total, states := &tally{counts: map[string]int{}}, &amount.States{}
	t.Run("stories", func(t *testing.T) {
		for n, s := range stories() {
			if _, several := s.cut.(*chain); several || s.made != nil || s.keep || s.spoil > 0 || s.large {
				continue
			}
			t.Run(s.name, func(t *testing.T) {
				t.Parallel()
				start := newRig(t, s.physics, max(s.logical, 512))
				for _, b := range s.before {
					if _, err := start.commit(storeIn(t), b); err != nil {
						t.Fatal(err)
					}
				}
				start.faulty, start.files = nil, true
				counts, rng := map[string]int{"stories": 1}, amount.Rand(n)
				for _, i := range rng.Perm(len(all))[:amount.Of(min(20, len(all)), len(all))] {
					second := all[i]
					counts["pairs"]++
					if agree(t, start, []request{s.cut, second}, states) {
						counts["fine"]++
					}
				}
				for range amount.Of(4, 100) {
					counts["triples"]++
					if agree(t, start, []request{s.cut, all[rng.IntN(len(all))], all[rng.IntN(len(all))]}, states) {
						counts["fine"]++
					}
				}
				total.add(counts)
			})
		}
	})
	c := total.counts
	if c["fine"] < (c["pairs"]+c["triples"])/4 {
		t.Errorf("only %d of %d pairs and %d triples are possible at all", c["fine"], c["pairs"], c["triples"])
	}
	fmt.Printf("chained is one after the other: %d pairs and %d triples of %d stories with %d requests, %d of them possible, the others refused both ways; of %v; seed %d\n",
		c["pairs"], c["triples"], c["stories"], len(all), c["fine"], states, amount.Seed())
}

// TestOneDraftForTheWholeRoad: a table, a partition, a file system and a line of fstab
// are one draft with a part for each, and one deed.
func TestOneDraftForTheWholeRoad(t *testing.T) {
	r, store := newRig(t, 512, 512), storeIn(t)
	road := append(herbarium(), &boot.FstabAdd{Target: "sdb1", Dir: "/srv/herbarium"})
	d := must(t, r, store, whole(road...))
	if all, err := store.List(); err != nil || len(all) != 1 || len(d.Steps) < 4 {
		t.Fatalf("%d deeds, %d steps, %v", len(all), len(d.Steps), err)
	}
	v, err := r.Inventory(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	n, _ := v.Node("sdb1")
	c, _ := n.Content()
	state, err := r.ReadFile("/etc/fstab")
	if want := "UUID=" + c.UUID + " /srv/herbarium ext4 nofail 0 2\n"; err != nil || c.Label != "herbarium" || string(state.Data) != want {
		t.Errorf("%s holds %s %s; fstab %q, %v", n.Name, c.Kind, c.Label, state.Data, err)
	}
	if !n.InKernel {
		t.Error("the kernel was not told of the partition")
	}
	if links, _ := filepath.Glob(filepath.Join(r.root, "srv/*")); len(links) != 1 {
		t.Errorf("mount points: %v", links)
	}
}
