//go:build proof

package oscall

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"testing"
)

// TestProofOwners gives, as root alone may, a tree away that is as odd as it may be: names of one file, a link out of
// it, programs with rights of their own. It is cut short in the middle, done to the end, and
// taken back, where meanwhile a file went to a third one and another came in the place of one
// that is gone.
func TestProofOwners(t *testing.T) {
	dir, out := t.TempDir(), t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	for i, name := range []string{"a/b/c/deep", "a/one", "a/two", "other", "kept/suid", "plain"} {
		err := errors.Join(os.MkdirAll(filepath.Dir(at(name)), 0o755), os.WriteFile(at(name), nil, 0o644), os.Chown(at(name), 100+i%2, 200))
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := errors.Join(os.Link(at("a/one"), at("again")), os.Symlink(out, at("out")), os.Chmod(at("kept/suid"), 0o755|os.ModeSetuid)); err != nil {
		t.Fatal(err)
	}
	former := owners(t, dir)
	curator := Owner{1000, 1001}
	change, n, err := LookAtOwners(t.Context(), dir, true, func(uint64, Owner) Owner { return curator })
	if err != nil || n.Privilege != 1 || n.Files != 11 { // of 13 names: one is a second one of a file
		t.Fatalf("%+v, %v", n, err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := change.Apply(ctx, dir, true); !errors.Is(err, context.Canceled) {
		t.Errorf("an interrupted one says %v", err)
	}
	if err := os.Lchown(at("a/two"), 1000, 1001); err != nil { // as far as another try came
		t.Fatal(err)
	}
	change.Mode = &[2]uint32{0o755, 0o2770}
	if left, err := change.Apply(t.Context(), dir, true); err != nil || left != 0 {
		t.Fatalf("%d left, %v", left, err)
	}
	for name, o := range owners(t, dir) {
		if (o == curator) != (name != "kept/suid") {
			t.Errorf("%s belongs to %v", name, o)
		}
	}
	if mode, err := ModeOf(dir); err != nil || mode != 0o2770 {
		t.Errorf("mode %o, %v", mode, err)
	}
	if o := owners(t, out)["."]; o != (Owner{}) {
		t.Errorf("the link was followed: %v", o)
	}
	// A file of a third one stays his, and one that is younger has nothing to do with it.
	if err := errors.Join(os.Chown(at("plain"), 7, 7), os.Remove(at("other")), os.WriteFile(at("new"), nil, 0o600), os.Chown(at("new"), 1000, 1001)); err != nil {
		t.Fatal(err)
	}
	left, err := change.Reversed().Apply(t.Context(), dir, true)
	if err != nil || left != 1 {
		t.Fatalf("%d left, %v", left, err)
	}
	delete(former, "other")
	former["plain"], former["new"] = Owner{7, 7}, curator
	now := owners(t, dir)
	for name, o := range former {
		if now[name] != o {
			t.Errorf("%s belongs to %v, before to %v", name, now[name], o)
		}
	}
	if mode, _ := ModeOf(dir); mode != 0o755 {
		t.Errorf("mode %o", mode)
	}
}

// TestOwnerRuns: whatever the order in which numbers are met, each is found once, and none
// between.
func TestOwnerRuns(t *testing.T) {
	var c OwnerChange
	me, you, to := Owner{1, 1}, Owner{2, 2}, Owner{9, 9}
	for _, n := range []uint64{7, 8, 3, 8, 5, 4, 3, 20} {
		c.add(n, me, to)
	}
	c.add(6, you, to)
	c.sort()
	want := []OwnerRun{{3, 3, me, to}, {6, 1, you, to}, {7, 2, me, to}, {20, 1, me, to}}
	if !slices.Equal(c.Runs, want) {
		t.Errorf("%v", c.Runs)
	}
	for n := range uint64(30) {
		from, _, ok := c.Find(n)
		if ok != (n >= 3 && n <= 8 || n == 20) || ok && (from == you) != (n == 6) {
			t.Errorf("%d: %v, %v", n, from, ok)
		}
	}
}

func owners(t *testing.T, dir string) map[string]Owner {
	t.Helper()
	all := map[string]Owner{}
	err := goThrough(t.Context(), dir, true, func(f seen) error {
		name, err := filepath.Rel(dir, f.name)
		all[name] = f.owner()
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return all
}
