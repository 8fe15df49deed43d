package cuts

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/inventory"
	"fundus/core/table"
	"fundus/internal/deed"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/machine/bench"
	"fundus/internal/stage"
	"fundus/internal/task"
	"fundus/internal/task/all"
	"fundus/internal/task/boot"
	"fundus/internal/task/content"
	"fundus/internal/task/disk"
	"fundus/internal/task/mount"
	"fundus/internal/task/past"
	"fundus/internal/task/several"
)

// home is the way of a blank disk to two areas and a home, as requests: the later ones name what
// the earlier ones make.
func home(wrong int) (*several.List, error) {
	list := []task.Request{
		&disk.TableNew{Disk: "sdb", Scheme: table.GPT},
		adding(disk.NewPart{Size: size("512MiB"), Type: "swap"}, disk.NewPart{Size: size("2GiB"), Name: "herbarium"}),
		&content.Format{Target: "made:2.1", Kind: "swap"},
		&content.Format{Target: "made:2.2", Kind: "xfs", Label: "herbarium"},
		&boot.FstabAdd{Target: "made:2.1", Dir: "swap"},
		&mount.Mount{Target: "made:2.2", Dir: "/srv/herbarium", Persist: true, Home: mount.Home{Mode: "2770", Owner: fmt.Sprintf("%d:%d", os.Getuid(), os.Getgid()), Link: "/herb"}},
		&mount.SwapOn{Target: "made:2.1"},
	}
	odd := []task.Request{
		&disk.TableNew{Disk: "sdz", Scheme: table.GPT},
		adding(disk.NewPart{Size: size("9GiB")}),
		&content.Format{Target: "made:2.3", Kind: "swap"},
		&content.Format{Target: "made:4", Kind: "xfs"},
		&boot.FstabAdd{Target: "made:2.2.nothing", Dir: "swap"},
		&mount.Mount{Target: "made:2.2", Dir: "/etc/fstab", Persist: true},
		&mount.SwapOn{Target: "made:2.2"},
	}
	if wrong >= 0 {
		list[wrong] = odd[wrong]
	}
	return several.Of("prepare sdb", list...)
}

func aBench(t *testing.T) (*bench.Bench, *deed.Store) {
	t.Helper()
	b, err := bench.New(t.Context(), filepath.Join(t.TempDir(), "fernhill"), "fernhill", bench.Layout{}, func() time.Time { return clock }, uuid.New)
	if err == nil {
		err = b.AddDisk(bench.Disk{Name: "sdb", Size: "4GiB", Serial: "LS-20417"})
	}
	if err != nil {
		t.Fatal(err)
	}
	return b, deed.NewStore(b.StateDir(), func() time.Time { return clock })
}

// TestAListIsOneDraft: seven requests are one draft and one deed with a part each; the later ones
// name what the earlier ones make. It is stored, planned again and committed, asked again it has
// nothing to do, and its undo leaves a blank disk.
func TestAListIsOneDraft(t *testing.T) {
	b, store := aBench(t)
	l, err := home(-1)
	if err != nil {
		t.Fatal(err)
	}
	stored, err := task.Encode(l)
	if err != nil {
		t.Fatal(err)
	}
	again, err := all.Decode(stored)
	if err != nil {
		t.Fatal(err)
	}
	plan := func(r task.Request) *draft.Draft {
		t.Helper()
		p, err := task.Plan(t.Context(), task.Conditions{Machine: b, Store: store, Clock: clock, Seed: [32]byte{7}, Decode: all.Decode}, r)
		if err != nil {
			t.Fatal(err)
		}
		defer p.Close()
		return &p.Draft
	}
	one, other := plan(l), plan(again)
	if one.Code != other.Code || one.Title != "prepare sdb" {
		t.Errorf("draft %s %q, and from its record %s", one.Code, one.Title, other.Code)
	}
	var titles []string
	for _, p := range one.Parts[1:] {
		if p.Under != 1 && p.Title != "mount sdb2 at /srv/herbarium" {
			titles = append(titles, fmt.Sprintf("(under %d)", p.Under))
		}
		titles = append(titles, p.Title)
	}
	for _, want := range []string{"put a new GPT on sdb", "add partitions 1 and 2 on sdb", "format sdb1 as swap", "format sdb2 as xfs", "sdb2 at /srv/herbarium"} {
		if !strings.Contains(strings.Join(titles, "\n"), want) {
			t.Errorf("no part %q of\n%s", want, strings.Join(titles, "\n"))
		}
	}
	if one.Undo != draft.ByName { // it is mounted, or swapped on, and nothing was there before
		t.Errorf("grade %s", one.Undo)
	}
	if err := onBench(t, b, store, again); err != nil {
		t.Fatal(err)
	}
	v, err := b.Inventory(t.Context())
	use, mounted := v.MountedAt("/srv/herbarium")
	if err != nil || !mounted || use.Node != "sdb2" || len(v.Areas) != 1 {
		t.Fatalf("mounted %v (%s), %d areas, %v", mounted, use.Node, len(v.Areas), err)
	}
	if err := onBench(t, b, store, &past.Undo{}); err != nil {
		t.Fatal(err)
	}
	v, err = b.Inventory(t.Context())
	if n, _ := v.Node("sdb"); err != nil || !n.Zeros || len(v.Family("sdb")) != 1 || len(v.Areas) > 0 {
		t.Errorf("after the undo sdb has %d nodes, zeros %v, %v", len(v.Family("sdb")), n.Zeros, err)
	}
}

// TestAListWithNothingToDo: a part that is so already says that, and the others are planned.
func TestAListWithNothingToDo(t *testing.T) {
	r, store := newRig(t, 512, 512), storeIn(t)
	must(t, r, store, herbarium()...)
	for _, label := range []string{"herbarium", "made:1"} { // a label, and no word for a device
		l, err := several.Of("", &content.Label{Target: "sdb1", Label: "herbarium"}, &content.Label{Target: "sdb1", Label: label})
		if err != nil {
			t.Fatal(err)
		}
		p, err := task.Plan(t.Context(), task.Conditions{Machine: r, Store: store, Clock: clock, Decode: all.Decode}, l)
		if err != nil {
			t.Fatal(err)
		}
		d := p.Draft
		p.Close()
		if idle := label == "herbarium"; d.Empty() != idle || len(d.Parts) != 3 || !d.Parts[1].Idle || d.Parts[2].Idle != idle || d.Title != "2 changes" {
			t.Errorf("%s: %d steps, %+v", label, len(d.Steps), d.Parts)
		}
		for _, n := range d.After {
			if c, _ := n.Content(); n.Name == "sdb1" && c.Label != label {
				t.Errorf("labelled %q, not %q", c.Label, label)
			}
		}
	}
}

// TestAListIsRefusedAsAWhole: whichever part is refused is named, and nothing is kept.
func TestAListIsRefusedAsAWhole(t *testing.T) {
	for i := range 7 {
		b, store := aBench(t)
		l, err := home(i)
		if err != nil {
			t.Fatal(err)
		}
		err = onBench(t, b, store, l)
		var part *several.PartError
		if !errors.As(err, &part) || part.Number != i+1 || part.Of != 7 || part.Verb != l.Requests[i].Verb {
			t.Errorf("part %d: %v", i+1, err)
		}
		v, errLook := b.Inventory(t.Context())
		deeds, errList := store.List()
		if n, _ := v.Node("sdb"); errors.Join(errLook, errList) != nil || !n.Zeros || len(deeds) != 0 || len(v.Areas) > 0 {
			t.Errorf("part %d is refused, and there are %d deeds, zeros %v, %v, %v", i+1, len(deeds), n.Zeros, errLook, errList)
		}
	}
	inner, err := several.Of("inner", &disk.TableNew{Disk: "sdb", Scheme: table.GPT})
	outer, errOuter := several.Of("outer", inner)
	empty, errEmpty := several.Of("empty")
	if err := errors.Join(err, errOuter, errEmpty); err != nil {
		t.Fatal(err)
	}
	b, store := aBench(t)
	for l, want := range map[*several.List]error{outer: several.ErrNested, empty: several.ErrEmpty} {
		if err := onBench(t, b, store, l); !errors.Is(err, want) {
			t.Errorf("%s: %v", l.Title, err)
		}
	}
	if _, err := task.Plan(context.Background(), task.Conditions{Machine: b, Store: store, Clock: clock}, inner); !errors.Is(err, task.ErrUndecoded) {
		t.Errorf("without a decoder: %v", err)
	}
}

// TestListsDoNotGrow: a list of 70 requests looks at the machine, and at its disk, as often as one
// of 7: the machine is verified and the next boot rehearsed once for the list.
func TestListsDoNotGrow(t *testing.T) {
	var first looks
	for _, n := range []int{7, 70} {
		r, store := newRig(t, 512, 512), storeIn(t)
		must(t, r, store, herbarium()...)
		var table strings.Builder
		var edits []task.Request
		for i := range n {
			fmt.Fprintf(&table, "tmpfs /srv/%d tmpfs nosuid 0 0\n", i)
			edits = append(edits, &boot.FstabEdit{Line: fmt.Sprint(i + 1), Add: []string{"nodev"}})
		}
		if err := os.WriteFile(filepath.Join(r.root, "etc/fstab"), []byte(table.String()), 0o644); err != nil {
			t.Fatal(err)
		}
		l, err := several.Of("", edits...)
		if err != nil {
			t.Fatal(err)
		}
		r.looks, r.faulty, r.files = &looks{}, nil, true
		d, err := r.commitSet(task.Conditions{Machine: r, Store: store, Clock: clock, Decode: all.Decode}, l)
		if err != nil || len(d.Steps) != n {
			t.Fatalf("%d edits: %v", n, err)
		}
		if text, err := os.ReadFile(filepath.Join(r.root, "etc/fstab")); err != nil || strings.Count(string(text), "nosuid,nodev") != n {
			t.Errorf("of %d lines %d were edited, %v", n, strings.Count(string(text), "nosuid,nodev"), err)
		}
		if n == 7 {
			first = *r.looks
		}
		if *r.looks != first || first.inventories == 0 || first.inventories > 3 {
			t.Errorf("%d requests: %+v, 7 of them: %+v", n, *r.looks, first)
		}
		t.Logf("%d requests: %+v", n, *r.looks)
	}
}

// stacked is a rig with a volume on its disk, of which nobody knows where on it the bytes lie.
type stacked struct{ *rig }

func (s stacked) Inventory(ctx context.Context) (*inventory.Inventory, error) {
	v, err := s.rig.Inventory(ctx)
	n := s.node()
	n.Name, n.Path, n.Form, n.BuiltOn, n.Kernel = "dm-0", "/dev/dm-0", inventory.Volume, []string{"sdb1"}, nil
	v.Nodes = append(v.Nodes, n)
	return v, err
}

// TestADraftWritesToOneOfThem: of a volume and what it is built on a draft writes to one alone,
// whichever is first, over a partition too.
func TestADraftWritesToOneOfThem(t *testing.T) {
	r := newRig(t, 512, 512)
	must(t, r, storeIn(t), herbarium()...)
	for _, order := range [][]string{{"sdb", "dm-0"}, {"dm-0", "sdb"}} {
		v, err := stacked{r}.Inventory(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		s := stage.New(stacked{r}, v, block.Spill{})
		write := func(device string) error {
			return s.Write(t.Context(), "write", machine.Target{Device: device, Start: 20 << 20, Size: 1 << 20, Hold: machine.HoldTable}, func(dev block.Device) error {
				_, err := dev.WriteAt([]byte(strings.Repeat("moss", 128)), 0)
				return err
			})
		}
		first, again, second := write(order[0]), write(order[0]), write(order[1])
		if first != nil || again != nil || !errors.Is(second, stage.ErrOpaque) || len(s.Steps()) != 2 {
			t.Errorf("%v: %v, %v, %v, %d steps", order, first, again, second, len(s.Steps()))
		}
		s.Close()
	}
}
