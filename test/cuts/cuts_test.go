package cuts

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"sync"
	"testing"

	"fundus/core/block"
	"fundus/core/inventory"
	"fundus/internal/deed"
	"fundus/internal/machine"
	"fundus/internal/task"
	"fundus/internal/task/content"
	"fundus/internal/task/disk"
	"fundus/test/amount"
)

func TestMain(m *testing.M) {
	debug.SetGCPercent(400) // little is kept, and much is made
	os.Exit(m.Run())
}

// setting is the state before a cut, with the outcome of an uncut run.
type setting struct {
	story
	*run
	done       *rig
	blank      *deed.Store // as it was before the command
	old, fresh sight       // as the probes see it
	parts      []sight     // after each part of a deed of several
	states     *amount.States
}

// arrange commits what a story begins with, and records the command.
func arrange(t *testing.T, s story) *setting {
	t.Helper()
	r := newRig(t, s.physics, max(s.logical, 512))
	if s.large {
		r.larger()
	}
	store := storeIn(t)
	for _, b := range s.before {
		if _, err := r.commit(store, b); err != nil {
			t.Fatalf("before the cut, %s: %v", b.Verb(), err)
		}
	}
	r.faulty = nil
	if s.spoil > 0 {
		b := make([]byte, 512)
		if _, err := r.medium.ReadAt(b, s.spoil/512*512); err != nil {
			t.Fatal(err)
		}
		b[s.spoil%512] ^= 0xFF
		if _, err := r.medium.WriteAt(b, s.spoil/512*512); err != nil {
			t.Fatal(err)
		}
	}
	if !s.keep {
		store = storeIn(t)
	}
	r.files = touchesFiles(s)
	if s.swaps != "" {
		r.areas = []inventory.Area{r.area(machine.Action{Device: s.swaps, UseArgs: machine.UseArgs{Options: "pri=5"}})}
	}
	p := &setting{story: s, blank: linked(t, store)}
	p.run, p.done = record(t, r, store, func(r *rig) error { _, err := r.commit(store, s.cut); return err })
	p.old, p.fresh = seen(p.start), seen(p.done)
	if several, ok := s.cut.(*chain); ok {
		p.parts = partsOf(t, p.start, several)
	} else if s.made != nil && !s.keep {
		p.parts = partsOf(t, p.start, s.made)
	} else if s.made != nil {
		p.parts = partsOf(t, newRig(t, s.physics, max(s.logical, 512)), s.made)
	} else if f, ok := s.cut.(*content.Format); ok && f.Type == content.FitType { // the type is set first, by itself
		p.parts = partsOf(t, p.start, whole(&disk.PartitionEdit{Target: f.Target, Type: "data"}))
	} else if several, ok := last(s.before).(*chain); ok {
		p.parts = partsOf(t, newRig(t, s.physics, max(s.logical, 512)), several)
	}
	if p.old.String() == p.fresh.String() && s.spoil == 0 { // a repaired copy is seen by its bytes alone
		t.Fatalf("the command changes nothing that can be seen:\n%s", p.old)
	}
	return p
}

func last(list []request) request {
	if len(list) == 0 {
		return nil
	}
	return list[len(list)-1]
}

// partsOf is what is seen after each part of a deed.
func partsOf(t *testing.T, start *rig, c *chain) (out []sight) {
	t.Helper()
	r := start.apart(t)
	for i, q := range c.Requests {
		seed := [32]byte{9, byte(len(start.known))}
		if _, err := r.commitWith(storeIn(t), q, task.SeedOf(seed, i+1)); err != nil {
			t.Fatal(err)
		}
		out = append(out, seen(r))
	}
	return out
}

// touchesFiles reports whether text files change too, which then are each cut's own.
func touchesFiles(s story) bool {
	_, several := s.cut.(*chain)
	return several || s.made != nil || slices.ContainsFunc(s.before, func(b request) bool { _, several := b.(*chain); return several })
}

// judge asks the probes, before anything is recovered.
func (p *setting) judge(t *testing.T, r *rig, where string) (state string) {
	t.Helper()
	now := seen(r)
	switch {
	case len(now.fenced) > 0 && now.mixed == "" && p.known(now.lines):
		return "fenced"
	case len(now.fenced) > 0:
	case now.String() == p.old.String():
		return "old"
	case now.String() == p.fresh.String():
		return "new"
	case p.between(now.lines):
		return "between"
	}
	t.Fatalf("%s, %s: a third state:\n%v %s\nold:\n%v\nnew:\n%v", p.name, where, now, now.mixed, p.old, p.fresh)
	return ""
}

// known reports whether each device beside a fenced one is as before or after, or, of a
// deed of several parts, as after one of them.
func (p *setting) known(lines []string) bool {
	for _, l := range lines {
		if !slices.Contains(p.old.lines, l) && !slices.Contains(p.fresh.lines, l) && !p.between([]string{l}) {
			return false
		}
	}
	return true
}

// between reports whether all devices are as they are after one part of a deed of
// several: each of those is whole.
func (p *setting) between(lines []string) bool {
	for _, part := range p.parts {
		if !slices.ContainsFunc(lines, func(l string) bool { return !slices.Contains(part.lines, l) }) {
			return true
		}
	}
	return false
}

// settled holds the medium against the bytes of before or after.
func (p *setting) settled(t *testing.T, r *rig, way deed.Direction, where string) {
	t.Helper()
	want := p.start
	if way == deed.Forward {
		want = p.done
	}
	if err := same(r, want); err != nil {
		t.Fatalf("%s, %s, recovered %s: %v", p.name, where, way, err)
	}
	if p.start.files {
		if got, want := tree(t, r.root), tree(t, want.root); got != want {
			t.Fatalf("%s, %s, recovered %s:\n%s\nwant\n%s", p.name, where, way, got, want)
		}
	}
}

// tally adds the counts of stories that run side by side.
type tally struct {
	sync.Mutex
	counts map[string]int
}

func (c *tally) add(counts map[string]int) {
	c.Lock()
	defer c.Unlock()
	for k, v := range counts {
		c.counts[k] += v
	}
}

// each runs the proof for every story that passes, several at a time.
func each(t *testing.T, pass func(s story) bool, proof func(t *testing.T, p *setting, counts map[string]int)) (map[string]int, *amount.States) {
	t.Helper()
	total, states := &tally{counts: map[string]int{}}, &amount.States{}
	t.Run("stories", func(t *testing.T) {
		for _, s := range stories() {
			if !pass(s) {
				continue
			}
			t.Run(s.name, func(t *testing.T) {
				t.Parallel()
				counts := map[string]int{"stories": 1}
				p := arrange(t, s)
				p.states = states
				proof(t, p, counts)
				total.add(counts)
			})
		}
	})
	return total.counts, states
}

func always(story) bool { return true }

// chosen is a sample of the operations of a run, with the first and the last of them; of
// a full count it is every one.
func (x *run) chosen(stride int) (list []int) {
	if amount.Soak() {
		stride = 1
	}
	for n := range x.ops {
		if n < 3 || n >= len(x.ops)-3 || n%stride == int(amount.Seed())%stride {
			list = append(list, n)
		}
	}
	return list
}

// TestCuts is the sweep: every operation, several seeds, both directions.
func TestCuts(t *testing.T) {
	total, states := each(t, always, func(t *testing.T, p *setting, counts map[string]int) {
		seeds := amount.Of(4, 20)
		if p.large { // each takes long
			seeds = amount.Of(1, 20)
		}
		rounds := min(p.seeds, uint64(seeds))
		if len(p.ops) < 10 { // few writes, each of which a cut may leave behind or not: by three chances it may be always not
			rounds = max(rounds, 12)
		}
		for seed := range rounds {
			for n := range p.ops {
				r, store := p.at(t, n, amount.Seed()+seed)
				p.judged(t, r, store, fmt.Sprintf("cut at %d, seed %d", n, amount.Seed()+seed), counts)
			}
		}
		for _, n := range p.chosen(4) { // as it is met: the error surfaces too
			p.live(t, n, counts)
		}
		if p.spoil == 0 && (counts["old"] == 0 || counts["new"]+counts["fenced"] == 0) {
			t.Errorf("the cuts saw only %v", counts)
		}
	})
	if t.Failed() {
		return
	}
	fmt.Printf("cuts: %d in %d stories, %d of them live: %d old, %d fenced, %d new, %d between parts, no third state; %d recoveries, each exactly old or new; of %v; seed %d\n",
		total["cuts"], total["stories"], total["live"], total["old"], total["fenced"], total["new"], total["between"], total["recovered"], states, amount.Seed())
}

// live cuts a commit that is under way.
func (p *setting) live(t *testing.T, n int, counts map[string]int) {
	t.Helper()
	r, store := p.start.apart(t), linked(t, p.blank)
	r.fault = block.Fault{FailAt: block.Never, CutAt: n, Seed: amount.Seed(), ReadErrorAt: block.Never}
	_, err := r.commit(store, p.story.cut)
	var midway *deed.MidwayError
	if !errors.As(err, &midway) || !errors.Is(err, block.ErrPowerLost) {
		t.Fatalf("%s, cut at %d: it did not surface: %v", p.name, n, err)
	}
	r.fault, r.faulty = block.NoFault, nil
	counts["live"]++
	p.judged(t, r, store, fmt.Sprintf("live cut at %d", n), counts)
}

// see counts the state that a cut left, and reports whether it is the first such one: the
// disk, the text files, and the logs of the deeds.
func (p *setting) see(t *testing.T, r *rig, store *deed.Store) (first bool) {
	t.Helper()
	text := p.name
	if r.files {
		text += tree(t, r.root)
	}
	logs, err := filepath.Glob(filepath.Join(store.Dir, "deeds", "*", "log"))
	for _, path := range logs {
		data, errRead := os.ReadFile(path)
		err, text = errors.Join(err, errRead), text+string(data)
	}
	first, errSee := p.states.See(r.medium, text)
	if err := errors.Join(err, errSee); err != nil {
		t.Fatal(err)
	}
	return first
}

// judged asks the probes, and recovers in both directions; a state that was judged already is
// none the better for it.
func (p *setting) judged(t *testing.T, r *rig, store *deed.Store, where string, counts map[string]int) {
	t.Helper()
	counts["cuts"]++
	if !p.see(t, r, store) {
		return
	}
	counts[p.judge(t, r, where)]++
	for _, way := range []deed.Direction{deed.Back, deed.Forward} {
		c := r.apart(t)
		if err := c.recover(linked(t, store), way); err != nil {
			t.Fatalf("%s, %s, recover %s: %v", p.name, where, way, err)
		}
		p.settled(t, c, way, where)
		counts["recovered"]++
	}
}

// TestCutsDuringRecover cuts recover itself at each of its operations, after a seeded
// first cut, and recovers from that in both directions.
func TestCutsDuringRecover(t *testing.T) {
	some := []string{"format over a file system", "partition add", "undo of a format", "table new over a bare file system", "table, partition, file system and fstab line as one deed"}
	total, states := each(t, func(s story) bool { return slices.Contains(some, s.name) }, func(t *testing.T, p *setting, counts map[string]int) {
		for first := 0; first < min(40, len(p.ops)); first += amount.Of(10, 5) {
			r, store := p.at(t, first, uint64(first))
			for _, way := range []deed.Direction{deed.Back, deed.Forward} {
				again := linked(t, store)
				x, _ := record(t, r, again, func(r *rig) error { return r.recover(again, way) })
				for n := range x.ops {
					where := fmt.Sprintf("cut at %d, then recover %s cut at %d", first, way, n)
					c, left := x.at(t, n, uint64(n))
					counts["cuts"]++
					if !p.see(t, c, left) {
						continue
					}
					p.judge(t, c, where)
					for _, last := range []deed.Direction{deed.Back, deed.Forward} {
						end := c.apart(t)
						if err := end.recover(linked(t, left), last); err != nil {
							t.Fatalf("%s, %s, recover %s: %v", p.name, where, last, err)
						}
						p.settled(t, end, last, where)
					}
				}
			}
		}
		if counts["cuts"] == 0 {
			t.Error("no recover was cut")
		}
	})
	fmt.Printf("cuts during recover: %d, each recovered in both directions; of %v\n", total["cuts"], states)
}

// TestFailuresAreTakenBack: where one write or sync fails and the device goes on, the
// error surfaces and every byte is as before.
func TestFailuresAreTakenBack(t *testing.T) {
	total, states := each(t, always, func(t *testing.T, p *setting, counts map[string]int) {
		for _, n := range p.chosen(4) {
			r, store := p.start.apart(t), linked(t, p.blank)
			r.fault = block.Fault{FailAt: n, CutAt: block.Never, ReadErrorAt: block.Never}
			_, err := r.commit(store, p.story.cut)
			var back *deed.TakenBackError
			if !errors.As(err, &back) || !errors.Is(err, block.ErrInjected) {
				t.Fatalf("failure at %d: %v", n, err)
			}
			if err := r.faulty.Close(); err != nil {
				t.Fatal(err)
			}
			p.settled(t, r, deed.Back, fmt.Sprintf("failure at %d", n))
			if _, err := p.states.See(r.medium, p.name); err != nil {
				t.Fatal(err)
			}
			if !slices.Equal(r.areas, p.start.areas) {
				t.Errorf("%s, failure at %d: swapped on are %v, before %v", p.name, n, r.areas, p.start.areas)
			}
			counts["failures"]++
		}
	})
	fmt.Printf("failures: %d, each surfaced and was taken back; of %v\n", total["failures"], states)
}
