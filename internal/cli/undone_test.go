package cli

import (
	"fmt"
	"maps"
	"os"
	"regexp"
	"strings"
	"testing"

	"fundus/core/block"
	"fundus/core/block/file"
	"fundus/core/kind"
	"fundus/core/probe/sample"
)

// populated writes the sample into an image file, and noise into every 64 KiB of it where
// neither the sample has anything nor a probe looks.
func populated(t *testing.T, path string, s sample.Sample) {
	t.Helper()
	const step, tail = 64 << 10, 256 << 10
	if err := file.Create(path, s.Size); err != nil {
		t.Fatal(err)
	}
	d, err := file.Open(path, true, block.Geometry{Logical: 1})
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	pieces := maps.Clone(s.Pieces)
	for at := int64(step + step/2); at < s.Size-tail; at += step {
		free := true
		for off, b := range s.Pieces {
			free = free && (off+int64(len(b)) <= at || at+512 <= off)
		}
		if free {
			pieces[at] = []byte(strings.Repeat(fmt.Sprintf("specimen %07d ", at), 30))
		}
	}
	for off, b := range pieces {
		if _, err := d.WriteAt(b, off); err != nil {
			t.Fatal(err)
		}
	}
}

var needed = regexp.MustCompile(`--lose=('[^']+'|\S+)`)

// change carries a change out, losing what must be lost, and says whether it was done.
func (w *world) change(line string) (string, bool) {
	w.t.Helper()
	out := w.fundus(line + " --commit --quiet")
	if need := needed.FindStringSubmatch(strings.Join(strings.Fields(out), " ")); need != nil {
		out = w.fundus(fmt.Sprintf(`%s --commit --quiet "--lose=%s"`, line, strings.Trim(need[1], "'")))
	}
	return out, strings.Contains(out, "done:")
}

// TestEveryKindComesBack: whatever is recognised is erased until nothing is recognised any
// longer, or formatted as whatever Fundus makes, and undo gives each byte back.
func TestEveryKindComesBack(t *testing.T) {
	w := newWorld(t)
	formats, small := 0, 0
	least := map[string]int64{"ext4": 2 << 20, "ext3": 8 << 20, "ext2": 2 << 20, "fat": 2 << 20, "swap": 2 << 20, "xfs": 64<<20 - 1} // above which none is refused
	for i, s := range sample.All() {
		image := fmt.Sprintf("card%02d.img", i)
		for _, old := range []string{fmt.Sprintf("card%02d.img", i-1), "state"} {
			if err := os.RemoveAll(old); err != nil {
				t.Fatal(err)
			}
		}
		w.last = ""
		populated(t, image, s)
		digest := func() string {
			lines := strings.Split(w.digests(), "\n")
			for _, l := range lines {
				if strings.HasSuffix(l, image) {
					return l
				}
			}
			t.Fatal("no digest of ", image)
			return ""
		}
		before := digest()
		undone := func(what string) {
			t.Helper()
			if out := w.fundus("undo last --commit --quiet"); !strings.Contains(out, "done:") || digest() != before {
				t.Errorf("%s: %s is not taken back:\n%s", s.Name, what, out)
			}
		}
		if out, done := w.change("erase " + image); !done {
			if s.Name != "physical volume" || !strings.Contains(strings.Join(strings.Fields(out), " "), "which this release does not read") || digest() != before { // it belongs to more than one device
				t.Errorf("%s: %s", s.Name, out)
			}
			continue
		}
		if out := w.fundus("inspect " + image); !strings.Contains(out, "unknown") && !strings.Contains(out, "not recognised") {
			t.Errorf("%s, erased:\n%s", s.Name, out)
		}
		undone("an erase")
		for _, word := range kind.Words() {
			if i%4 > 0 && (word == "ext2" || word == "ext3") { // which lie as ext4 does
				continue
			}
			out, done := w.change(fmt.Sprintf("format %s %s", image, word))
			if !done {
				if small++; s.Size > least[word] || digest() != before {
					t.Errorf("%s as %s: %s", s.Name, word, out)
				}
				continue
			}
			if formats++; digest() == before {
				t.Errorf("%s as %s: nothing was written", s.Name, word)
			}
			undone("a format as " + word)
		}
	}
	t.Logf("%d formats taken back, %d refused for their size", formats, small)
	if formats < 80 {
		t.Errorf("%d formats", formats)
	}
}
