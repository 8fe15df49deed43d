package cuts

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"fundus/core/inventory"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/task"
)

var updatePlans = flag.Bool("update-plans", false, "rewrite what is planned")

// planned describes a draft: its steps, what is lost, what is needed, how far it can be
// taken back.
func planned(d *draft.Draft, err error) string {
	var b strings.Builder
	if err != nil {
		fmt.Fprintf(&b, "  refused: %v\n", err)
		return b.String()
	}
	fmt.Fprintf(&b, "  %s\n  undo: %s", d.Title, d.Undo)
	if d.LastStep > 0 {
		fmt.Fprintf(&b, ", not after step %d", d.LastStep)
	}
	b.WriteString("\n")
	for i, s := range d.Steps {
		fmt.Fprintf(&b, "  step %d: %s: %s%s\n", i+1, s.Kind(), s.Title, map[bool]string{true: " (no way back)"}[s.NoWayBack])
		switch w := s.Body.(type) {
		case *draft.Writing:
			fmt.Fprintf(&b, "    %s of %v, %d phases (%d before the fence), %d bytes", w.Target.Device, w.Target.Span(), w.Phases, w.Before, int64(w.Bytes))
			if w.Fence != nil {
				fmt.Fprintf(&b, ", fence %v for %v and %v", w.Fence.Old, w.Fence.New, w.Fence.Rest)
			}
			b.WriteString("\n")
		case *draft.Acting:
			text, err := json.Marshal(w)
			fmt.Fprintf(&b, "    %s %v\n", text, err)
		case *draft.FileChange:
			fmt.Fprintf(&b, "    %s: %d bytes become %d\n", w.Path, len(w.Before.Data), len(w.After.Data))
		}
	}
	for _, l := range d.Losses {
		fmt.Fprintf(&b, "  lost: %s: %s, by the name %s\n", l.Node, l.What, l.Name)
	}
	needs, err := d.Open(draft.Given{})
	if err != nil {
		fmt.Fprintf(&b, "  never: %v\n", err)
	}
	for _, n := range needs {
		fmt.Fprintf(&b, "  needed: %s: %s\n", n.Option, n.Why)
	}
	for _, f := range d.Findings {
		fmt.Fprintf(&b, "  finding: %s %s\n", f.ID, f.Thing)
	}
	return b.String()
}

// TestPlans: what every story plans, on the machine that it begins with, is what it planned
// before: its steps, losses, needs and grade.
func TestPlans(t *testing.T) {
	var got strings.Builder
	for _, s := range stories() {
		r := newRig(t, s.physics, max(s.logical, 512))
		if s.large {
			r.larger()
		}
		store := storeIn(t)
		for _, b := range s.before {
			if _, err := r.commit(store, b); err != nil {
				t.Fatalf("%s, %s: %v", s.name, b.Verb(), err)
			}
		}
		r.faulty, r.files = nil, touchesFiles(s)
		if s.swaps != "" {
			r.areas = []inventory.Area{r.area(machine.Action{Device: s.swaps, UseArgs: machine.UseArgs{Options: "pri=5"}})}
		}
		args, err := json.Marshal(s.cut)
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(&got, "%s: %s %s\n", s.name, s.cut.Verb(), args)
		plan, err := task.Plan(context.Background(), task.Conditions{Machine: r, Store: store, Clock: clock, Seed: [32]byte{9, byte(len(r.known))}}, s.cut)
		if err != nil {
			got.WriteString(planned(nil, err))
			continue
		}
		got.WriteString(planned(&plan.Draft, nil))
		plan.Close()
	}
	path := filepath.Join("testdata", "plans.txt")
	if *updatePlans {
		if err := os.WriteFile(path, []byte(got.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	story := ""
	have, kept := strings.Split(got.String(), "\n"), strings.Split(string(want), "\n")
	for i := range max(len(have), len(kept)) {
		if i < len(have) && !strings.HasPrefix(have[i], " ") {
			story, _, _ = strings.Cut(have[i], ": ")
		}
		if i >= len(have) || i >= len(kept) || have[i] != kept[i] {
			t.Fatalf("%s, line %d:\n%s\nwas\n%s", story, i+1, strings.Join(have[min(i, len(have)):min(i+1, len(have))], ""), strings.Join(kept[min(i, len(kept)):min(i+1, len(kept))], ""))
		}
	}
}
