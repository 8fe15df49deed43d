package cuts

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"fundus/core/block"
	"fundus/core/text/fstab"
	"fundus/internal/deed"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/task"
	"fundus/internal/task/boot"
	"fundus/internal/task/past"
	"fundus/test/amount"
)

// tree is every file and directory below a root, with the files' content.
func tree(t testing.TB, root string) string {
	t.Helper()
	var b strings.Builder
	err := filepath.Walk(root, func(path string, info os.FileInfo, err error) error {
		if err != nil {
			return err
		}
		rel, _ := filepath.Rel(root, path)
		fmt.Fprintf(&b, "%s %v", rel, info.Mode())
		if to, err := os.Readlink(path); err == nil {
			fmt.Fprintf(&b, " to %s", to)
		}
		if info.Mode().IsRegular() {
			data, err := os.ReadFile(path)
			fmt.Fprintf(&b, " %q", data)
			if err != nil {
				return err
			}
		}
		b.WriteByte('\n')
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return b.String()
}

// TestFilesCut cuts fstab add, what is done with units, and the undo of each, at each line of
// the log, also where the table is a symbolic link. A file is replaced by renaming, so that a unit that was begun stands
// before or after; both are tried. Recover brings the whole tree of before or after.
func TestFilesCut(t *testing.T) {
	cuts, states := 0, &amount.States{}
	line := &boot.FstabAdd{Target: "sdb1", Dir: "/srv/seeds/herbarium"}
	units := &boot.UnitAdd{FstabAdd: boot.FstabAdd{Target: "sdb1", Dir: "/srv/seeds/herbarium", Automount: true, Idle: "60s", DeviceWait: "5s"}}
	fromLine := &boot.UnitAdd{FromFstab: "/srv/seeds/herbarium"}
	cases := [][]task.Request{{line}, {units}, {line, fromLine}, {units, &boot.FromUnit{Unit: "/srv/seeds/herbarium"}}, {units, &boot.UnitRemove{Unit: "/srv/seeds/herbarium"}}}
	for i := range 2*len(cases) + 2 {
		list, undo, link := cases[i/2%len(cases)], i%2 == 1, i >= 2*len(cases)
		r, store := newRig(t, 512, 512), storeIn(t)
		r.files = true
		old := "# fernhill\n\tUUID=8d0c / ext4 defaults 0 1" // without a last newline
		if err := os.WriteFile(filepath.Join(r.root, fstab.Path), []byte(old), 0o640); err != nil {
			t.Fatal(err)
		}
		if link {
			path := filepath.Join(r.root, fstab.Path)
			if err := errors.Join(os.Rename(path, filepath.Join(r.root, "real")), os.Symlink("/real", path)); err != nil {
				t.Fatal(err)
			}
		}
		must(t, r, store, herbarium()...)
		request := list[len(list)-1]
		must(t, r, store, list[:len(list)-1]...)
		if undo {
			must(t, r, store, request)
			request = &past.Undo{}
		}
		before := memoryDir(t)
		copyTree(t, r.root, before)
		d := must(t, r, store, request)
		after := memoryDir(t)
		copyTree(t, r.root, after)
		log, err := os.ReadFile(filepath.Join(store.Dir, "deeds", d.ID, "log"))
		if err != nil {
			t.Fatal(err)
		}
		lines := bytes.SplitAfter(log, []byte("\n"))
		for n := range len(lines) - 1 { // the last line completes the deed
			prefix := bytes.Join(lines[:n], nil)
			began, ended := bytes.Count(prefix, []byte(" begin ")), bytes.Count(prefix, []byte(" end "))
			for done := ended; done <= began; done++ {
				for _, way := range []deed.Direction{deed.Back, deed.Forward} {
					c, again := r.clone(), linked(t, store)
					c.root = memoryDir(t)
					copyTree(t, before, c.root)
					apply(t, c.root, d, done)
					if _, err := states.See(c.medium, fmt.Sprint(i, way), tree(t, c.root), string(prefix)); err != nil {
						t.Fatal(err)
					}
					if err := os.WriteFile(filepath.Join(again.Dir, "deeds", d.ID, "log"), prefix, 0o600); err != nil {
						t.Fatal(err)
					}
					if err := c.recover(again, way); err != nil {
						t.Fatalf("%s, undo %v, %d lines, %d units done, %s: %v", list[len(list)-1].Verb(), undo, n, done, way, err)
					}
					want := tree(t, before)
					if way == deed.Forward {
						want = tree(t, after)
					}
					if got := tree(t, c.root); got != want {
						t.Fatalf("%s, undo %v, %d lines, %d units done, recovered %s:\n%s\nwant\n%s", list[len(list)-1].Verb(), undo, n, done, way, got, want)
					}
					cuts++
				}
			}
		}
	}
	fmt.Printf("cuts of text files, links and units: %d, each recovered to the whole tree of before or after; of %v\n", cuts, states)
}

// TestRecoverKeepsALaterEdit: a text file that somebody edited after the crash is
// not replaced unless that is asked for.
func TestRecoverKeepsALaterEdit(t *testing.T) {
	r, store := newRig(t, 512, 512), storeIn(t)
	path := filepath.Join(r.root, fstab.Path)
	if err := os.WriteFile(path, []byte("# fernhill\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	must(t, r, store, herbarium()...)
	d := must(t, r, store, &boot.FstabAdd{Target: "sdb1", Dir: "/srv/herbarium"})
	log := filepath.Join(store.Dir, "deeds", d.ID, "log")
	text, err := os.ReadFile(log)
	if err != nil {
		t.Fatal(err)
	}
	whole := bytes.SplitAfter(text, []byte("\n"))
	edited := []byte("# fernhill\n# the curator was here\n")
	if err := errors.Join(os.WriteFile(log, bytes.Join(whole[:len(whole)-2], nil), 0o600), os.WriteFile(path, edited, 0o644)); err != nil {
		t.Fatal(err)
	}
	if err := r.recover(store, deed.Forward); !errors.Is(err, deed.ErrEdited) {
		t.Errorf("recover = %v", err)
	}
	if now, _ := os.ReadFile(path); !bytes.Equal(now, edited) {
		t.Errorf("the edit is lost: %q", now)
	}
	rec := deed.Recover{Store: store, Machine: r, Direction: deed.Back, Over: true}
	if _, err := rec.Run(context.Background(), d); err != nil {
		t.Error(err)
	}
	if now, _ := os.ReadFile(path); string(now) != "# fernhill\n" {
		t.Errorf("taken back over it: %q", now)
	}
}

func copyTree(t testing.TB, from, to string) {
	t.Helper()
	if err := os.RemoveAll(to); err != nil {
		t.Fatal(err)
	}
	if err := os.CopyFS(to, os.DirFS(from)); err != nil {
		t.Fatal(err)
	}
	err := filepath.Walk(from, func(path string, info os.FileInfo, err error) error {
		if err != nil {
			return err
		}
		rel, _ := filepath.Rel(from, path)
		if info.Mode()&os.ModeSymlink != 0 {
			return nil
		}
		return os.Chmod(filepath.Join(to, rel), info.Mode())
	})
	if err != nil {
		t.Fatal(err)
	}
}

// apply does by hand what the first units of the deed do.
func apply(t testing.TB, root string, d *deed.Deed, units int) {
	t.Helper()
	for _, u := range d.Strokes[:units] {
		switch s := d.Steps[u.Step].Body.(type) {
		case *draft.FileChange:
			bring(t, root, s.Path, s.After)
		case *draft.Linking:
			linkUp(t, root, s.Path, s.To, s.Remove)
		}
	}
}

// linkUp makes a symbolic link, or takes it away.
func linkUp(t testing.TB, root, path, to string, remove bool) {
	t.Helper()
	full := filepath.Join(root, path)
	err := os.Remove(full)
	if !remove {
		err = os.Symlink(to, full)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// applied does to text files what the log says was done, forward and back.
func applied(t testing.TB, root string, d *deed.Deed, log string) {
	t.Helper()
	text, err := os.ReadFile(log)
	if err != nil {
		t.Fatal(err)
	}
	for line := range strings.Lines(string(text)) {
		words := strings.Fields(line) // sum, time, boot, event, unit
		if len(words) < 5 {
			continue
		}
		unit, err := strconv.Atoi(words[4])
		if err != nil || unit >= len(d.Strokes) {
			continue
		}
		c, is := d.Steps[d.Strokes[unit].Step].Body.(*draft.FileChange)
		switch {
		case !is:
		case words[3] == "end":
			bring(t, root, c.Path, c.After)
		case words[3] == "end-back":
			bring(t, root, c.Path, c.Before)
		}
	}
}

// bring makes a file or a directory what it is to be.
func bring(t testing.TB, root, path string, want machine.FileState) {
	t.Helper()
	at, err := machine.Below(root, path)
	if err != nil {
		t.Fatal(err)
	}
	full := at.Full
	switch {
	case want.Missing:
		err = os.RemoveAll(full)
	case want.Dir:
		err = os.MkdirAll(full, want.Attributes.Mode)
	default:
		err = errors.Join(os.WriteFile(full, want.Data, want.Attributes.Mode), os.Chmod(full, want.Attributes.Mode))
	}
	if err != nil {
		t.Fatal(err)
	}
}

// TestRecoverKeepsForeignBytes: what somebody else wrote to the place since the
// cut is neither of before nor of after; recover refuses both ways and touches
// nothing, can be told to leave it, and can be told to write over it.
func TestRecoverKeepsForeignBytes(t *testing.T) {
	const header = 512 // the primary GPT header, which every step of a table edit has in its images
	p := arrange(t, stories()[1])
	for n := range 6 {
		r, store := p.at(t, n, 1)
		if err := block.WriteBytes(r.medium, bytes.Repeat([]byte("later"), 102), header); err != nil {
			t.Fatal(err)
		}
		before := r.clone()
		for _, way := range []deed.Direction{deed.Back, deed.Forward, deed.Either} {
			if err := r.recover(linked(t, store), way); !errors.Is(err, deed.ErrForeign) {
				t.Fatalf("cut at %d, recover %q: %v", n, way, err)
			}
		}
		left := linked(t, store)
		if err := r.recover(left, deed.Stay); err != nil {
			t.Fatalf("cut at %d: %v", n, err)
		}
		if all, err := left.List(); err != nil || all[0].State != deed.TakenBack {
			t.Errorf("cut at %d: left as it is, the deed counts as %v, %v", n, all[0].State, err)
		}
		if err := same(r, before); err != nil {
			t.Fatalf("cut at %d: a refusal changed the medium: %v", n, err)
		}
		list, err := store.Unfinished()
		if err != nil || len(list) != 1 {
			t.Fatalf("%v, %v", list, err)
		}
		rec := deed.Recover{Store: store, Machine: r, Direction: deed.Forward, Over: true}
		if _, err := rec.Run(context.Background(), list[0]); err != nil {
			t.Fatal(err)
		}
		p.settled(t, r, deed.Forward, "over later writes")
	}
}
