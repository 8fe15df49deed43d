package cuts

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"fundus/core/text/fstab"
	"fundus/internal/deed"
	"fundus/internal/draft"
	"fundus/internal/task"
	"fundus/internal/task/mount"
	"fundus/internal/task/past"
	"fundus/test/amount"
)

// TestMakingCut cuts the making of a file to swap on, with its line of fstab, and its undo, at
// each line of the log, with what an unfinished try left lying about. Recover brings what was
// before or after: no file, or one that is whole, swapped on and named.
func TestMakingCut(t *testing.T) {
	cuts, states := 0, &amount.States{}
	for _, undo := range []bool{false, true} {
		r, store := newRig(t, 512, 512), storeIn(t)
		r.files = true
		if err := errors.Join(os.WriteFile(filepath.Join(r.root, fstab.Path), []byte("# fernhill\n"), 0o644), os.Mkdir(filepath.Join(r.root, "srv"), 0o755)); err != nil {
			t.Fatal(err)
		}
		add := &mount.SwapAdd{Path: "/srv/swap", Size: size("1MiB"), Persist: true}
		var request task.Request = add
		if undo {
			must(t, r, store, add)
			request = &past.Undo{}
		}
		before, was := memoryDir(t), slices.Clone(r.areas)
		copyTree(t, r.root, before)
		d := must(t, r, store, request)
		after, is := memoryDir(t), slices.Clone(r.areas)
		copyTree(t, r.root, after)
		log, err := os.ReadFile(filepath.Join(store.Dir, "deeds", d.ID, "log"))
		if err != nil {
			t.Fatal(err)
		}
		lines := bytes.SplitAfter(log, []byte("\n"))
		for n := range len(lines) - 1 {
			prefix := bytes.Join(lines[:n], nil)
			began, ended := bytes.Count(prefix, []byte(" begin ")), bytes.Count(prefix, []byte(" end "))
			for done := ended; done <= began; done++ {
				for _, way := range []deed.Direction{deed.Back, deed.Forward} {
					c, again := r.clone(), linked(t, store)
					c.root, c.areas = memoryDir(t), slices.Clone(was)
					copyTree(t, before, c.root)
					c.reach(t, d, done)
					if began > done { // what it was at is left lying about
						half(t, c.root, d.Steps[d.Strokes[done].Step])
					}
					if _, err := states.See(c.medium, fmt.Sprint(undo, way, c.areas), tree(t, c.root), string(prefix)); err != nil {
						t.Fatal(err)
					}
					if err := os.WriteFile(filepath.Join(again.Dir, "deeds", d.ID, "log"), prefix, 0o600); err != nil {
						t.Fatal(err)
					}
					where := fmt.Sprintf("undo %v, %d lines, %d of %d done, %s", undo, n, done, began, way)
					if err := c.recover(again, way); err != nil {
						t.Fatalf("%s: %v", where, err)
					}
					want, areas := tree(t, before), was
					if way == deed.Forward {
						want, areas = tree(t, after), is
					}
					if got := tree(t, c.root); got != want || !slices.Equal(c.areas, areas) {
						t.Fatalf("%s: swaps on %v, want %v; as the tree is %v", where, c.areas, areas, got == want)
					}
					cuts++
				}
			}
		}
	}
	fmt.Printf("cuts of a file to swap on: %d, each recovered to what was before or after; of %v\n", cuts, states)
}

// reach brings about what the first strokes of the deed do.
func (r *rig) reach(t *testing.T, d *deed.Deed, strokes int) {
	t.Helper()
	apply(t, r.root, d, strokes)
	for _, u := range d.Strokes[:strokes] {
		var err error
		switch s := d.Steps[u.Step].Body.(type) {
		case *draft.Making:
			path := filepath.Join(r.root, s.Path)
			if s.Remove {
				err = os.Remove(path)
			} else {
				err = errors.Join(os.WriteFile(path, s.Header, 0o600), os.Truncate(path, int64(s.Size)))
			}
		case *draft.Acting:
			err = r.Do(t.Context(), nil, s.Action)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
}

// half is a file that was being made.
func half(t *testing.T, root string, s draft.Step) {
	t.Helper()
	m, is := s.Body.(*draft.Making)
	if !is || m.Remove {
		return
	}
	path := filepath.Join(root, filepath.Dir(m.Path), "."+filepath.Base(m.Path)+".new")
	if err := os.WriteFile(path, m.Header[:512], 0o600); err != nil {
		t.Fatal(err)
	}
}
