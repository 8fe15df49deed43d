package cuts

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"fundus/internal/deed"
	"fundus/internal/task"
	"fundus/internal/task/disk"
	"fundus/internal/task/mount"
	"fundus/internal/task/prepare"
	"fundus/test/amount"
)

// storyOf is the one of that name.
func storyOf(t *testing.T, name string) story {
	t.Helper()
	for _, s := range stories() {
		if s.name == name {
			return s
		}
	}
	t.Fatalf("there is no story %q", name)
	return story{}
}

// TestPreparedAgain: wherever a disk that is prepared was cut short, and whichever way that was ended,
// the same words make of it what they make of an empty one, or find it so; and then they have nothing to
// do. Of the deeds of before nothing is in the way.
func TestPreparedAgain(t *testing.T) {
	p := arrange(t, storyOf(t, "a disk that is prepared"))
	again, nothing := 0, 0
	for _, n := range p.chosen(amount.Of(5, 1)) {
		for _, way := range []deed.Direction{deed.Back, deed.Forward} {
			r, store := p.at(t, n, amount.Seed())
			if err := r.recover(store, way); err != nil {
				t.Fatal(err)
			}
			r.faulty = nil
			_, err := r.commit(store, p.story.cut)
			if way == deed.Back {
				again++
			}
			if err == nil || errors.Is(err, errNothing) && way == deed.Forward {
				r.faulty = nil
				if _, err = r.commit(store, p.story.cut); errors.Is(err, errNothing) {
					nothing, err = nothing+1, nil
				}
			}
			v, errLook := r.Inventory(t.Context())
			use, mounted := v.MountedAt("/srv/herbarium")
			if part, _ := v.Node("sdb1"); err != nil || errLook != nil || !mounted || use.Node != "sdb1" || v.Named()["sdb1"] != "/srv/herbarium" || part.Contents[0].Label != "herbarium" {
				t.Fatalf("cut at %d, recovered %s: %v, %v; mounted %v, sdb1 %+v", n, way, err, errLook, mounted, part)
			}
		}
	}
	fmt.Printf("prepared again: %d cuts, each recovered both ways; %d made anew, %d times nothing was left to do\n", len(p.chosen(amount.Of(5, 1))), again, nothing)
}

// TestPreparedLooks: the whole road looks at the machine, and at the disk, no more often than the last
// stretch of it alone does, but for what each new layer of the disk has to be read for.
func TestPreparedLooks(t *testing.T) {
	count := func(before []task.Request, q task.Request) looks {
		r, store := newRig(t, 512, 512), storeIn(t)
		must(t, r, store, before...)
		r.looks, r.faulty, r.files = &looks{}, nil, true
		must(t, r, store, q)
		return *r.looks
	}
	road := count(nil, &prepare.Prepare{Disk: "sdb", As: "ext4", Mount: "/srv/herbarium"})
	last := count(herbarium(), &mount.Mount{Target: "sdb1", Dir: "/srv/herbarium", Persist: true})
	t.Logf("the road: %+v; the mount alone: %+v", road, last)
	if road.inventories != last.inventories || road.scans > last.scans+2 {
		t.Errorf("the road: %+v; the mount alone: %+v", road, last)
	}
}

// TestPreparedIsToldApart: what is there is known by its place, its label and its being empty, and what is
// somebody else's is refused or left alone. Each begins on a disk with a GPT.
func TestPreparedIsToldApart(t *testing.T) {
	prepared := prepare.Prepare{Disk: "sdb", As: "ext4", Mount: "/srv/herbarium"}
	with := func(change func(q *prepare.Prepare)) *prepare.Prepare {
		q := prepared
		change(&q)
		return &q
	}
	begun := func(name, of string) []task.Request {
		return []task.Request{herbarium()[0], adding(disk.NewPart{Name: name, Size: size(of)})}
	}
	for _, c := range []struct {
		what   string
		before []task.Request
		ask    *prepare.Prepare
		says   string // a part of the refusal; "" where it is made
		on     string // the partition
	}{
		{"an empty partition of its name is taken", begun("herbarium", "20MiB"), &prepared, "", "sdb1"},
		{"of another size it is not", begun("herbarium", "20MiB"), with(func(q *prepare.Prepare) { q.Size = size("12MiB") }), "1 partition already", ""},
		{"of the same size it is", begun("herbarium", "20MiB"), with(func(q *prepare.Prepare) { q.Size = size("20MiB") }), "", "sdb1"},
		{"in free room another name is not taken", begun("mosses", "20MiB"), with(func(q *prepare.Prepare) { q.InRoom, q.Size = true, size("12MiB") }), "", "sdb2"},
		{"one that holds something is not", herbarium(), with(func(q *prepare.Prepare) { q.Label = "ferns" }), "1 partition already", ""},
		{"one of its kind and label is mounted", herbarium(), &prepared, "", "sdb1"},
		{"but not as another kind", herbarium(), with(func(q *prepare.Prepare) { q.As = "xfs" }), "1 partition already", ""},
		{"the room is too small", begun("mosses", "20MiB"), with(func(q *prepare.Prepare) { q.InRoom, q.Size = true, size("30MiB") }), "no free gap is large enough", ""},
		{"another scheme is not made over a partition", herbarium(), with(func(q *prepare.Prepare) { q.Scheme = "mbr" }), "the table is GPT, not MBR", ""},
	} {
		r, store := newRig(t, 512, 512), storeIn(t)
		must(t, r, store, c.before...)
		r.faulty, r.files = nil, true
		_, err := r.commit(store, c.ask)
		v, errLook := r.Inventory(t.Context())
		use, _ := v.MountedAt("/srv/herbarium")
		if errLook != nil || use.Node != c.on || (err == nil) != (c.says == "") || err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: on %q, %v, %v; want on %q, %q", c.what, use.Node, err, errLook, c.on, c.says)
		}
	}
}
