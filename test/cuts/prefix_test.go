package cuts

import (
	"context"
	"fmt"
	"slices"
	"testing"

	"fundus/core/block"
	"fundus/core/finding"
	"fundus/core/inventory"
	"fundus/core/verify"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/task"
	"fundus/internal/task/content"
	"fundus/internal/task/disk"
	"fundus/internal/task/space"
	"fundus/test/amount"
)

// errorsOf are what is wrong with the machine: its tables, what lies on it, and what the
// kernel takes for its partitions.
func errorsOf(t *testing.T, r *rig) (keys []string) {
	t.Helper()
	v, err := r.Inventory(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range finding.AtLeast(verify.All(v), finding.Error) {
		keys = append(keys, f.Key())
	}
	for _, n := range v.Nodes { // a file system that reaches past what the kernel gives it
		c, ok := n.Content()
		i := slices.IndexFunc(r.known, func(k inventory.KernelPart) bool { return k.Number == n.Number && n.Parent != "" })
		if ok && i >= 0 && c.Size > r.known[i].Size {
			keys = append(keys, fmt.Sprintf("%s: %d bytes, and the kernel has %d", n.Name, c.Size, r.known[i].Size))
		}
	}
	return keys
}

// brought carries out what belongs to the steps before one, as data.
func brought(t *testing.T, r *rig, plan *draft.Plan, steps int) {
	t.Helper()
	for _, s := range plan.Strokes(make([]byte, 512)) {
		if s.Step >= steps {
			break
		}
		if a, is := plan.Draft.Steps[s.Step].Body.(*draft.Acting); is {
			if err := r.Do(context.Background(), nil, a.Action); err != nil {
				t.Fatal(err)
			}
		}
		if s.Bytes == nil {
			continue
		}
		for _, e := range s.Bytes.Extents {
			b := make([]byte, e.Len)
			if _, err := s.Bytes.After.ReadAt(b, e.Off); err != nil {
				t.Fatal(err)
			}
			if err := block.WriteBytes(r.medium, b, e.Off); err != nil {
				t.Fatal(err)
			}
		}
	}
}

// resizes are stories in which something gets another size that no cut needs to be made in.
func resizes() []story {
	newTable := &disk.TableNew{Disk: "sdb", Scheme: "gpt"}
	mbr := &disk.TableNew{Disk: "sdb", Scheme: "mbr"}
	format := func(target, kind string, asked map[string]string) request {
		return &content.Format{Target: target, Kind: kind, Label: "ferns", Asked: asked}
	}
	part := func(sizes ...string) request {
		var list []disk.NewPart
		for _, s := range sizes {
			list = append(list, disk.NewPart{Size: size(s)})
		}
		return adding(list...)
	}
	to := func(target, s string) request { return &space.Resize{Target: target, Size: size(s)} }
	gone := func(targets ...string) request { return &disk.PartitionRemove{Targets: targets} }
	page := map[string]string{"page": "4KiB"}
	extended := adding(disk.NewPart{Size: size("24MiB"), Type: "extended"})
	return []story{
		{name: "room from a neighbour that is swapped on", before: []request{newTable, part("9MiB", "8MiB"), format("sdb1", "ext4", nil), format("sdb2", "swap", page)},
			cut: whole(gone("sdb2"), to("sdb1", "max")), swaps: "sdb2"},
		{name: "a logical one grows over what was behind it", before: []request{mbr, extended, part("5MiB"), part("6MiB"), format("sdb5", "ext2", nil)}, cut: whole(gone("sdb6"), to("sdb5", "max"))},
		{name: "a logical one goes with its container", before: []request{mbr, part("9MiB"), extended, part("6MiB"), format("sdb1", "ext3", nil), format("sdb5", "swap", page)},
			cut: whole(gone("sdb5", "sdb2"), to("sdb1", "max")), swaps: "sdb5"},
		{name: "the extended one grows, and then what is in it", before: []request{mbr, adding(disk.NewPart{Size: size("12MiB"), Type: "extended"}), part("9MiB"), format("sdb5", "ext4", nil)}, cut: whole(to("sdb1", "30MiB"), to("sdb5", "25MiB"))},
		{name: "swap makes room, and its neighbour takes it", before: []request{newTable, part("9MiB", "20MiB"), format("sdb1", "ext4", nil), format("sdb2", "swap", page)}, cut: whole(to("sdb2", "6MiB"), to("sdb2", "12MiB")), swaps: "sdb2"},
		{name: "as small as it can be", before: []request{newTable, part("20MiB"), format("sdb1", "ext4", map[string]string{"size": "9MiB"})}, cut: to("sdb1", "min")},
		{name: "what is in it is named", before: []request{newTable, part("20MiB"), format("sdb1", "ext4", nil)}, cut: to("LABEL=ferns", "22MiB")},
	}
}

// TestPrefixes: after each of the first steps of whatever resizes there is no error that was
// not there before, in tables, in what lies on the disk, and in what the kernel takes for its
// partitions; of every other draft there is none after the last step.
func TestPrefixes(t *testing.T) {
	steps, drafts, states := 0, 0, &amount.States{}
	for _, s := range slices.Concat(stories(), resizes()) {
		t.Run(s.name, func(t *testing.T) {
			r := newRig(t, max(s.physics, 512), max(s.logical, 512))
			if s.large {
				r.larger()
			}
			store := storeIn(t)
			must(t, r, store, s.before...)
			r.faulty = nil
			r.files = touchesFiles(s)
			if s.swaps != "" {
				r.areas = []inventory.Area{r.area(machine.Action{Device: s.swaps, UseArgs: machine.UseArgs{Options: "pri=5"}})}
			}
			plan, err := task.Plan(context.Background(), task.Conditions{Machine: r, Store: store, Clock: clock, Seed: [32]byte{7}}, s.cut)
			if err != nil {
				t.Fatal(err)
			}
			defer plan.Close()
			was := errorsOf(t, r)
			from := len(plan.Draft.Steps)
			if resizing(s.cut) {
				from = 1
			}
			for n := from; n <= len(plan.Draft.Steps); n++ {
				c := r.apart(t)
				brought(t, c, plan, n)
				for _, key := range errorsOf(t, c) {
					if !slices.Contains(was, key) {
						t.Errorf("after %d of %d steps: %s", n, len(plan.Draft.Steps), key)
					}
				}
				if _, err := states.See(c.medium, s.name, fmt.Sprint(c.known)); err != nil {
					t.Fatal(err)
				}
				steps++
			}
			drafts++
		})
	}
	fmt.Printf("prefixes: %d states of %d drafts without a new error; of %v\n", steps, drafts, states)
}

// resizing reports whether the request, or one of its parts, gives something another size.
func resizing(r request) bool {
	if c, several := r.(*chain); several {
		return slices.ContainsFunc(c.Requests, resizing)
	}
	_, is := r.(*space.Resize)
	return is
}

// TestBehindTheOldEndFirst: what an offline growth writes behind the old end is written before
// its fence is set, and is most of it: a cut there leaves the file system as it was.
func TestBehindTheOldEndFirst(t *testing.T) {
	for _, kind := range []string{"ext2", "ext3", "ext4"} {
		r, store := newRig(t, 512, 512), storeIn(t)
		must(t, r, store, &disk.TableNew{Disk: "sdb", Scheme: "gpt"}, adding(disk.NewPart{Size: size("9MiB")}), &content.Format{Target: "sdb1", Kind: kind, Label: "ferns"})
		r.faulty = nil
		plan, err := task.Plan(context.Background(), task.Conditions{Machine: r, Store: store, Clock: clock}, &space.Resize{Target: "sdb1", Size: size("34MiB")})
		if err != nil {
			t.Fatal(err)
		}
		const end = 10 << 20 // of it, as it was
		fenced, first, behind, within := false, 0, int64(0), int64(0)
		for _, s := range plan.Strokes(make([]byte, 512)) {
			w, is := plan.Draft.Steps[s.Step].Body.(*draft.Writing)
			if !is || w.Fence == nil {
				continue
			}
			fenced = fenced || s.Bytes.Role == draft.SetFence
			for _, e := range s.Bytes.Extents {
				switch {
				case !fenced && e.Off < end:
					t.Errorf("%s: byte %d is written before the fence", kind, e.Off)
				case !fenced:
					first, behind = first+1, behind+e.Len
				case e.Off >= end:
					t.Errorf("%s: byte %d, behind the old end, is written under the fence", kind, e.Off)
				default:
					within += e.Len
				}
			}
		}
		plan.Close()
		if first == 0 || kind == "ext2" && behind < within {
			t.Errorf("%s: %d bytes before the fence, %d under it", kind, behind, within)
		}
	}
}
