// Package cuts proves what a crash leaves behind: every changing command is cut
// before each of its writes and syncs, by a device that then drops, reorders
// and tears what was not synced. After each cut the probes see the old state,
// the new one, or a fence; and recover, in both directions, brings exactly the
// old bytes or the new ones.
package cuts

import (
	"errors"
	"fmt"
	"slices"
	"testing"

	"fundus/core/block"
	"fundus/core/quantity"
	"fundus/core/table"
	"fundus/core/table/saved"
	"fundus/internal/deed"
	"fundus/internal/task"
)

// story is a command and the state in which it is given.
type story struct {
	name    string
	physics int64          // physical sector
	logical int64          // logical sector, 512 where it is 0
	before  []task.Request // committed first
	cut     func(store *deed.Store) task.Request
	keep    bool // the cut command needs the store of before: undo
	seeds   uint64
	spoil   int64 // a byte that is turned round before the cut, 0 for none
}

func size(text string) quantity.Size {
	s, err := quantity.Parse(text)
	if err != nil {
		panic(err)
	}
	return s
}

func adding(parts ...task.NewPart) *task.PartitionAdd {
	return &task.PartitionAdd{Disk: "sdb", Parts: parts}
}

func request(r task.Request) func(*deed.Store) task.Request {
	return func(*deed.Store) task.Request { return r }
}

func stories() []story {
	newTable := &task.TableNew{Disk: "sdb", Scheme: table.GPT}
	add := adding(task.NewPart{Size: size("30MiB"), Name: "herbarium"})
	second := adding(task.NewPart{Size: size("2MiB"), Name: "scans"})
	format := func(label string) *task.Format {
		return &task.Format{Target: "sdb1", Kind: "ext4", Label: label, Reserved: 50}
	}
	bare := &task.Format{Target: "sdb", Kind: "ext4", Label: "bare", Reserved: 50}
	label := &task.Label{Target: "sdb1", Label: "mosses"}
	newMBR := &task.TableNew{Disk: "sdb", Scheme: table.MBR}
	unnamed := adding(task.NewPart{Size: size("3MiB")})
	extended := adding(task.NewPart{Size: size("24MiB"), Type: "extended"})
	edit := func(target string) *task.PartitionEdit {
		name := "seeds"
		return &task.PartitionEdit{Target: target, Name: &name, Type: "home"}
	}
	restore := &task.TableRestore{Disk: "sdb", Saved: saved.Document{Fundus: saved.Version, Kind: saved.Kind, Scheme: table.GPT, ID: "5eed5eed-0000-4000-8000-000000000001", Entries: 128,
		Disk: saved.Disk{Identity: "sata Larkspur S300 LS-20417", Size: diskSize, Sector: 512},
		Partitions: []saved.Partition{
			{Number: 1, First: 2048, Count: 4096, Type: "0fc63daf-8483-4772-8e79-3d69d8477de4", UUID: "5eed5eed-0000-4000-8000-000000000002", Name: "scans"},
			{Number: 7, First: 10240, Count: 4096, Type: "0fc63daf-8483-4772-8e79-3d69d8477de4", UUID: "5eed5eed-0000-4000-8000-000000000003"},
		}}}
	undo := func(*deed.Store) task.Request { return &task.Undo{} }
	return []story{
		{"table new on a blank disk", 512, 0, nil, request(newTable), false, 12, 0},
		{"table new over a table", 512, 0, []task.Request{newTable, add}, request(newTable), false, 12, 0},
		{"table new over a bare file system", 512, 0, []task.Request{bare}, request(newTable), false, 12, 0},
		{"partition add", 512, 0, []task.Request{newTable, add}, request(second), false, 12, 0},
		{"partition add over old content", 512, 0, []task.Request{newTable, add, format("old"), &task.PartitionRemove{Targets: []string{"sdb1"}}},
			request(&task.PartitionAdd{Disk: "sdb", Parts: []task.NewPart{{Size: size("30MiB")}}, Content: "erase"}), false, 12, 0},
		{"partition remove", 512, 0, []task.Request{newTable, add, second}, request(&task.PartitionRemove{Targets: []string{"sdb1"}}), false, 12, 0},
		{"format an empty partition", 512, 0, []task.Request{newTable, add}, request(format("herbarium")), false, 12, 0},
		{"format over a file system", 512, 0, []task.Request{newTable, add, format("old")}, request(format("herbarium")), false, 20, 0},
		{"format on 4096-byte physical sectors", 4096, 0, []task.Request{newTable, add, format("old")}, request(format("herbarium")), false, 12, 0},
		{"format on 4096-byte logical sectors", 4096, 4096, []task.Request{newTable, add, format("old")}, request(format("herbarium")), false, 12, 0},
		{"partition add on 4096-byte logical sectors", 4096, 4096, []task.Request{newTable, add}, request(second), false, 8, 0},
		{"format a whole disk with a table", 512, 0, []task.Request{newTable, add}, request(bare), false, 12, 0},
		{"label", 512, 0, []task.Request{newTable, add, format("herbarium")}, request(label), false, 12, 0},
		{"undo of a format", 512, 0, []task.Request{newTable, add, format("old"), format("herbarium")}, undo, true, 12, 0},
		{"undo of a label", 512, 0, []task.Request{newTable, add, format("herbarium"), label}, undo, true, 6, 0},
		{"undo of partition add", 512, 0, []task.Request{newTable, add, second}, undo, true, 8, 0},
		{"undo of table new", 512, 0, []task.Request{newTable}, undo, true, 8, 0},
		{"partition edit", 512, 0, []task.Request{newTable, add, second}, request(edit("sdb1")), false, 3, 0},
		{"convert to a GPT", 512, 0, []task.Request{newMBR, extended, unnamed, unnamed}, request(&task.TableConvert{Disk: "sdb", Scheme: table.GPT}), false, 3, 0},
		{"convert to an MBR", 4096, 4096, []task.Request{newTable, second}, request(&task.TableConvert{Disk: "sdb", Scheme: table.MBR}), false, 3, 0},
		{"restore of a saved table", 512, 0, []task.Request{newTable, second, add}, request(restore), false, 3, 0},
		{"resize", 512, 0, []task.Request{newTable, second}, request(&task.Resize{Target: "sdb1", Size: size("8MiB")}), false, 3, 0},
		{"repair of the primary copy", 512, 0, []task.Request{newTable, add}, request(&task.TableRepair{Disk: "sdb"}), false, 4, 512 + 24},
		{"repair of the backup copy", 512, 0, []task.Request{newTable, add}, request(&task.TableRepair{Disk: "sdb"}), false, 4, diskSize - 512 + 24},
		{"several partitions at once", 512, 0, []task.Request{newTable}, request(adding(task.NewPart{Size: size("2MiB")}, task.NewPart{Size: size("3MiB")})), false, 3, 0},
		{"new MBR on a blank disk", 512, 0, nil, request(newMBR), false, 3, 0},
		{"new MBR over a GPT", 512, 0, []task.Request{newTable, add}, request(newMBR), false, 3, 0},
		{"new GPT over an MBR", 512, 0, []task.Request{newMBR, unnamed}, request(newTable), false, 3, 0},
		{"partition add on an MBR", 512, 0, []task.Request{newMBR, unnamed}, request(unnamed), false, 3, 0},
		{"an extended partition", 512, 0, []task.Request{newMBR, unnamed}, request(extended), false, 3, 0},
		{"the first logical partition", 512, 0, []task.Request{newMBR, extended}, request(unnamed), false, 3, 0},
		{"another logical partition", 512, 0, []task.Request{newMBR, extended, unnamed}, request(unnamed), false, 3, 0},
		{"the first of three logical partitions goes", 512, 0, []task.Request{newMBR, extended, unnamed, unnamed, unnamed}, request(&task.PartitionRemove{Targets: []string{"sdb5"}}), false, 3, 0},
		{"two logical partitions go at once", 512, 0, []task.Request{newMBR, extended, unnamed, unnamed, unnamed, unnamed}, request(&task.PartitionRemove{Targets: []string{"sdb5", "sdb7"}}), false, 6, 0},
		{"one between logical partitions goes", 4096, 4096, []task.Request{newMBR, extended, unnamed, unnamed, unnamed}, request(&task.PartitionRemove{Targets: []string{"sdb6"}}), false, 3, 0},
		{"resize of a logical partition", 512, 0, []task.Request{newMBR, extended, unnamed, unnamed}, request(&task.Resize{Target: "sdb6", Size: size("4MiB")}), false, 3, 0},
		{"undo of a logical partition that went", 512, 0, []task.Request{newMBR, extended, unnamed, unnamed, &task.PartitionRemove{Targets: []string{"sdb5"}}}, undo, true, 3, 0},
	}
}

// setting is the state before a cut, with the outcome of an uncut run.
type setting struct {
	story
	start, done *rig
	store       *deed.Store
	old, fresh  sight // as the probes see it
}

func prepare(t *testing.T, s story) *setting {
	t.Helper()
	r := newRig(t, s.physics, max(s.logical, 512))
	p := &setting{story: s, start: r, store: storeIn(t)}
	for _, b := range s.before {
		if _, err := r.commit(p.store, b); err != nil {
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
		p.store = storeIn(t)
	}
	p.done = r.clone()
	if _, err := p.done.commit(copyStore(t, p.store), s.cut(p.store)); err != nil {
		t.Fatalf("uncut: %v", err)
	}
	p.old, p.fresh = seen(p.start), seen(p.done)
	if p.old.String() == p.fresh.String() && s.spoil == 0 { // a repaired copy is seen by its bytes alone
		t.Fatalf("the command changes nothing that can be seen:\n%s", p.old)
	}
	return p
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
	}
	t.Fatalf("%s, %s: a third state:\n%v %s\nold:\n%v\nnew:\n%v", p.name, where, now, now.mixed, p.old, p.fresh)
	return ""
}

// known reports whether each device beside a fenced one is as before or after.
func (p *setting) known(lines []string) bool {
	for _, l := range lines {
		if !slices.Contains(p.old.lines, l) && !slices.Contains(p.fresh.lines, l) {
			return false
		}
	}
	return true
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
}

// TestCuts is the sweep: every operation, several seeds, both directions.
func TestCuts(t *testing.T) {
	total := map[string]int{}
	for _, s := range stories() {
		t.Run(s.name, func(t *testing.T) {
			p := prepare(t, s)
			counts := map[string]int{}
			for seed := range s.seeds {
				for n := 0; p.cutAt(t, n, seed, counts); n++ {
				}
			}
			if s.spoil == 0 && (counts["old"] == 0 || counts["new"]+counts["fenced"] == 0) {
				t.Errorf("the cuts saw only %v", counts)
			}
			t.Logf("%d cuts: %d old, %d fenced, %d new; %d recoveries", counts["cuts"], counts["old"], counts["fenced"], counts["new"], counts["recovered"])
			for k, v := range counts {
				total[k] += v
			}
		})
	}
	if t.Failed() {
		return
	}
	fmt.Printf("cuts: %d in %d stories: %d old, %d fenced, %d new, no third state; %d recoveries, each exactly old or new\n",
		total["cuts"], len(stories()), total["old"], total["fenced"], total["new"], total["recovered"])
}

// cutAt cuts before operation n; it reports false once the run got through.
func (p *setting) cutAt(t *testing.T, n int, seed uint64, counts map[string]int) bool {
	t.Helper()
	where := fmt.Sprintf("cut at %d, seed %d", n, seed)
	r := p.start.clone()
	r.fault = block.Fault{FailAt: block.Never, CutAt: n, Seed: seed, ReadErrorAt: block.Never}
	store := copyStore(t, p.store)
	_, err := r.commit(store, p.cut(store))
	if err == nil {
		p.settled(t, r, deed.Forward, where)
		return false
	}
	var midway *deed.MidwayError
	if !errors.As(err, &midway) || !errors.Is(err, block.ErrPowerLost) {
		t.Fatalf("%s, %s: the cut did not surface: %v", p.name, where, err)
	}
	counts["cuts"]++
	counts[p.judge(t, r, where)]++
	for _, way := range []deed.Direction{deed.Back, deed.Forward} {
		c, again := r.clone(), copyStore(t, store)
		if err := c.recover(again, way); err != nil {
			t.Fatalf("%s, %s, recover %s: %v", p.name, where, way, err)
		}
		p.settled(t, c, way, where)
		counts["recovered"]++
	}
	return true
}

// TestCutsDuringRecover cuts recover itself at each of its operations, after a
// seeded first cut, and recovers from that in both directions.
func TestCutsDuringRecover(t *testing.T) {
	cuts := 0
	for _, s := range stories() {
		if s.name != "format over a file system" && s.name != "partition add" && s.name != "undo of a format" && s.name != "table new over a bare file system" {
			continue
		}
		t.Run(s.name, func(t *testing.T) {
			p := prepare(t, s)
			for first := 0; first < 40; first += 5 {
				r := p.start.clone()
				r.fault = block.Fault{FailAt: block.Never, CutAt: first, Seed: uint64(first), ReadErrorAt: block.Never}
				store := copyStore(t, p.store)
				if _, err := r.commit(store, p.cut(store)); err == nil {
					break
				}
				for _, way := range []deed.Direction{deed.Back, deed.Forward} {
					for n := 0; ; n++ {
						where := fmt.Sprintf("cut at %d, then recover %s cut at %d", first, way, n)
						c, again := r.clone(), copyStore(t, store)
						c.fault = block.Fault{FailAt: block.Never, CutAt: n, Seed: uint64(n), ReadErrorAt: block.Never}
						err := c.recover(again, way)
						if err == nil {
							break
						}
						cuts++
						p.judge(t, c, where)
						for _, last := range []deed.Direction{deed.Back, deed.Forward} {
							end := c.clone()
							if err := end.recover(copyStore(t, again), last); err != nil {
								t.Fatalf("%s, %s, recover %s: %v", p.name, where, last, err)
							}
							p.settled(t, end, last, where)
						}
					}
				}
			}
		})
	}
	fmt.Printf("cuts during recover: %d, each recovered in both directions\n", cuts)
	if cuts == 0 {
		t.Error("no recover was cut")
	}
}

// TestFailuresAreTakenBack: where one write or sync fails and the device goes
// on, the error surfaces and every byte is as before.
func TestFailuresAreTakenBack(t *testing.T) {
	failures := 0
	for _, s := range stories() {
		t.Run(s.name, func(t *testing.T) {
			p := prepare(t, s)
			for n := 0; ; n++ {
				r := p.start.clone()
				r.fault = block.Fault{FailAt: n, CutAt: block.Never, ReadErrorAt: block.Never}
				store := copyStore(t, p.store)
				_, err := r.commit(store, p.cut(store))
				if err == nil {
					break
				}
				var back *deed.TakenBackError
				if !errors.As(err, &back) || !errors.Is(err, block.ErrInjected) {
					t.Fatalf("failure at %d: %v", n, err)
				}
				if err := r.faulty.Close(); err != nil {
					t.Fatal(err)
				}
				p.settled(t, r, deed.Back, fmt.Sprintf("failure at %d", n))
				failures++
			}
		})
	}
	fmt.Printf("failures: %d, each surfaced and was taken back\n", failures)
}
