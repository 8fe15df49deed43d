package cuts

import (
	"fmt"
	"slices"
	"sync/atomic"
	"testing"

	"fundus/internal/deed"
	"fundus/internal/draft"
	"fundus/internal/task/past"
	"fundus/test/amount"
)

// takenBack commits requests one after the other, and the undo of each from the newest on, and
// holds what is there then against what was there before. It reports whether all of them had
// something to do.
func takenBack(t *testing.T, start *rig, list []request) bool {
	t.Helper()
	r, store := start.apart(t), storeIn(t)
	name := ""
	var states []*rig
	var deeds []*deed.Deed
	for i, q := range list {
		name += fmt.Sprintf("%s; ", q.Verb())
		was := r.apart(t)
		d, err := r.commitWith(store, q, [32]byte{9, byte(i), byte(len(r.known))})
		if err != nil {
			return false // it is refused here, or changes nothing
		}
		r.faulty = nil
		states, deeds = append(states, was), append(deeds, d)
	}
	for i, d := range slices.Backward(deeds) {
		_, err := r.commit(store, &past.Undo{Deed: d.ID})
		r.faulty = nil
		promised := d.Undo == draft.Exactly || d.Undo == draft.ByName || d.Undo == draft.UntilMounted || d.Undo == draft.UntilChanged
		switch {
		case err != nil && !promised:
			return true // refused, with the step
		case err != nil:
			t.Errorf("%s: undo of %s, which is %q: %v", name, d.Title, d.Undo, err)
			return true
		}
		if err := same(r, states[i]); err != nil && promised {
			t.Errorf("%s: the undo of %s, which is %q: %v", name, d.Title, d.Undo, err)
		}
		if was, is := tree(t, states[i].root), tree(t, r.root); r.files && was != is {
			t.Errorf("%s: the undo of %s leaves other files:\n%s\nand not\n%s", name, d.Title, is, was)
		}
	}
	return true
}

// TestEveryUndoIsCommitted: the undo of every story, and of pairs of them, is planned and
// committed, and gives back what its grade promised; where there is none it is refused.
func TestEveryUndoIsCommitted(t *testing.T) {
	all := requests()
	var single, pairs atomic.Int64
	t.Run("stories", func(t *testing.T) {
		for n, s := range stories() {
			if _, several := s.cut.(*chain); several || s.keep || s.spoil > 0 {
				continue
			}
			t.Run(s.name, func(t *testing.T) {
				t.Parallel()
				start := newRig(t, max(s.physics, 512), max(s.logical, 512))
				if s.large {
					start.larger()
				}
				must(t, start, storeIn(t), s.before...)
				start.faulty, start.files = nil, true
				if !takenBack(t, start, []request{s.cut}) {
					t.Fatal("the story is refused")
				}
				single.Add(1)
				if s.large {
					return
				}
				rng := amount.Rand(1000 + n)
				for _, i := range rng.Perm(len(all))[:amount.Of(min(4, len(all)), len(all))] {
					if takenBack(t, start, []request{s.cut, all[i]}) {
						pairs.Add(1)
					}
				}
			})
		}
	})
	fmt.Printf("undone: %d stories and %d pairs, each committed and taken back; seed %d\n", single.Load(), pairs.Load(), amount.Seed())
}
