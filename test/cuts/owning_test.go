//go:build proof

package cuts

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"testing"

	"golang.org/x/sys/unix"

	"fundus/core/inventory"
	"fundus/internal/deed"
	"fundus/internal/draft"
	"fundus/internal/task"
	"fundus/internal/task/content"
	"fundus/internal/task/mount"
	"fundus/internal/task/past"
	"fundus/test/amount"
)

// TestProofOwningCut cuts a mount whose files are given away, with a mode and a link, and its undo,
// at each line of the log, and within the giving away: before it was kept whose they were, and
// after half of them. The machine has forgotten the mount, as after a boot, or not. Recover
// brings what was before or after.
func TestProofOwningCut(t *testing.T) {
	cuts, states := 0, &amount.States{}
	for _, undo := range []bool{false, true} {
		r, store := newRig(t, 512, 512), storeIn(t)
		planted := []string{"srv/herbarium/a/b/deep", "srv/herbarium/a/one", "srv/herbarium/two", "home/curator/notes", "etc/passwd", "etc/group"}
		for i, name := range planted {
			full := filepath.Join(r.root, name)
			err := errors.Join(os.MkdirAll(filepath.Dir(full), 0o755), os.WriteFile(full, []byte("curator:x:1000:1000:::\n"), 0o644), os.Chown(full, i, 0))
			if err != nil {
				t.Fatal(err)
			}
		}
		must(t, r, store, &content.Format{Target: "sdb", Kind: "ext4"})
		r.mounts = []inventory.Use{{Node: "sdb", How: inventory.Mounted, Where: "/srv/herbarium", Kind: "ext4"}}
		request := task.Request(&mount.Mount{Target: "sdb", Dir: "/srv/herbarium", Home: mount.Home{Owner: "curator", Mode: "2770", Below: true, Link: "/home/curator/herbarium"}})
		if undo {
			must(t, r, store, request)
			request = &past.Undo{}
		}
		before := ownersIn(t, r.root)
		d := must(t, r, store, request)
		after := ownersIn(t, r.root)
		log, err := os.ReadFile(filepath.Join(store.Dir, "deeds", d.ID, "log"))
		if err != nil || maps.Equal(before, after) {
			t.Fatal(err, before)
		}
		lines := bytes.SplitAfter(log, []byte("\n"))
		for n := range len(lines) - 1 {
			prefix := bytes.Join(lines[:n], nil)
			began, ended := bytes.Count(prefix, []byte(" begin ")), bytes.Count(prefix, []byte(" end "))
			for _, way := range []deed.Direction{deed.Back, deed.Forward} {
				for _, half := range []bool{false, true} {
					c, again := r.clone(), linked(t, store)
					dir := filepath.Join(again.Dir, "deeds", d.ID)
					if c.mounts = r.mounts; half {
						c.mounts = nil
					}
					before.stand(t, c.root, func(string) bool { return true })
					for i, u := range d.Strokes {
						_, link := d.Steps[u.Step].Body.(*draft.Linking)
						done, within := i < ended, i == ended && began > ended && half
						if !link && !done && !within { // whose they were is not known yet
							if err := os.Remove(filepath.Join(dir, fmt.Sprintf("owners-%d", u.Step))); err != nil {
								t.Fatal(err)
							}
						}
						after.stand(t, c.root, func(name string) bool {
							mine := (name == "home/curator/herbarium") == link
							return mine && (done || within && len(name)%2 == 0)
						})
					}
					if err := os.WriteFile(filepath.Join(dir, "log"), prefix, 0o600); err != nil {
						t.Fatal(err)
					}
					where := fmt.Sprintf("undo %v, %d lines, %s, half %v", undo, n, way, half)
					if _, err := states.See(c.medium, string(prefix), fmt.Sprint(ownersIn(t, c.root)), string(way)); err != nil {
						t.Fatal(err)
					}
					if err := c.recover(again, way); err != nil {
						t.Fatalf("%s: %v", where, err)
					}
					want := before
					if way == deed.Forward {
						want = after
					}
					if got := ownersIn(t, c.root); !maps.Equal(got, want) {
						t.Fatalf("%s:\n%v\nis not\n%v", where, got, want)
					}
					cuts++
				}
			}
		}
	}
	fmt.Printf("cuts of files given away: %d, each recovered to what was before or after; of %v\n", cuts, states)
}

// owned says of each file below a root whose it is, and its mode or where it leads.
type owned map[string]string

func ownersIn(t *testing.T, root string) owned {
	t.Helper()
	all := owned{}
	err := filepath.WalkDir(root, func(path string, _ os.DirEntry, err error) error {
		var st unix.Stat_t
		err = errors.Join(err, unix.Lstat(path, &st))
		name, errName := filepath.Rel(root, path)
		to, _ := os.Readlink(path)
		all[name] = fmt.Sprintf("%d %d %o %s", st.Uid, st.Gid, st.Mode&0o7777, to)
		return errors.Join(err, errName)
	})
	if err != nil {
		t.Fatal(err)
	}
	return all
}

// stand brings files to where they are in the list; a link that is in none goes.
func (o owned) stand(t *testing.T, root string, which func(name string) bool) {
	t.Helper()
	const link = "home/curator/herbarium"
	var err error
	if which(link) {
		if err = os.Remove(filepath.Join(root, link)); errors.Is(err, os.ErrNotExist) {
			err = nil
		}
		if _, there := o[link]; there {
			err = errors.Join(err, os.Symlink("/srv/herbarium", filepath.Join(root, link)))
		}
	}
	for name, is := range o {
		var uid, gid int
		var mode uint32
		if _, errScan := fmt.Sscanf(is, "%d %d %o", &uid, &gid, &mode); which(name) {
			err = errors.Join(err, errScan, os.Lchown(filepath.Join(root, name), uid, gid))
			if name != link {
				err = errors.Join(err, unix.Chmod(filepath.Join(root, name), mode))
			}
		}
	}
	if err != nil {
		t.Fatal(err)
	}
}
