package cuts

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"fundus/internal/task/boot"
	"fundus/internal/task/content"
	"fundus/internal/task/disk"
	"fundus/internal/task/past"
	"fundus/internal/task/prepare"
	"fundus/internal/task/space"
)

var updateTyped = flag.Bool("update-typed", false, "rewrite the stories as they are typed")

// typedStory is a story as an administrator types it. A proof with a real kernel walks them too.
type typedStory struct {
	Name  string   `json:"name"`
	Size  int64    `json:"size_bytes"` // of the disk
	Lines []string `json:"lines"`
}

// typed is the request in words; false where no command alone says it.
func typed(q request) (string, bool) {
	settings := func(asked map[string]string) (words string) {
		for _, key := range slices.Sorted(maps.Keys(asked)) {
			words += fmt.Sprintf(" %s=%s", key, asked[key])
		}
		return words
	}
	option := func(name, value string) string {
		if value == "" {
			return ""
		}
		return fmt.Sprintf(" --%s=%s", name, value)
	}
	switch r := q.(type) {
	case *disk.TableNew:
		return "table new " + r.Disk + option("scheme", string(r.Scheme)), true
	case *disk.PartitionAdd:
		words := "partition add " + r.Disk
		for _, p := range r.Parts {
			words += option("size", p.Size.Text) + option("name", p.Name) + option("type", p.Type)
		}
		return words + option("content", r.Content), true
	case *disk.PartitionRemove:
		words := "partition remove"
		for _, t := range r.Targets {
			words += " " + t
		}
		return words, true
	case *disk.PartitionEdit:
		return "partition edit " + r.Target + option("name", *r.Name) + option("type", r.Type), true
	case *disk.TableEdit:
		return "table edit " + r.Disk + option("uuid", r.UUID), true
	case *disk.TableConvert:
		return "table convert " + r.Disk + option("scheme", string(r.Scheme)), true
	case *disk.TableRepair:
		return "table repair " + r.Disk, true
	case *content.Format:
		return "format " + r.Target + " " + r.Kind + settings(r.Asked) + option("label", r.Label) + option("uuid", r.UUID) + option("type", r.Type), true
	case *content.Label:
		return "label " + r.Target + " " + r.Label, true
	case *content.Erase:
		return "erase " + r.Target, true
	case *content.Adjust:
		return "adjust " + r.Target + settings(r.Asked), true
	case *space.Resize:
		return "resize " + r.Target + " " + r.Size.Text, true
	case *boot.FstabAdd:
		return "fstab add " + r.Target + " " + r.Dir, true
	case *prepare.Prepare:
		return "prepare " + r.Disk + option("as", r.As) + option("mount", r.Mount), true
	case *past.Undo:
		return "undo", true
	}
	return "", false
}

// TestTyped holds the stories as they are typed: those that one command each says, on a disk of
// sectors of 512 bytes.
func TestTyped(t *testing.T) {
	var list []typedStory
	for _, s := range stories() {
		one, whole := typedStory{Name: s.name, Size: diskSize}, true
		if s.large {
			one.Size = 100 << 20
		}
		add := func(line string, can bool) { one.Lines, whole = append(one.Lines, line), whole && can }
		for _, q := range s.before {
			line, can := typed(q)
			add(line+" --commit", can)
		}
		if s.spoil > 0 {
			add(fmt.Sprintf("spoil sdb %d 1", s.spoil), true)
		}
		if s.swaps != "" {
			add("swap on "+s.swaps, true)
		}
		line, can := typed(s.cut)
		add(line+" --commit", can)
		if whole {
			list = append(list, one)
		}
	}
	if len(list) < len(stories())-5 {
		t.Errorf("%d of %d stories are typed", len(list), len(stories()))
	}
	text, err := json.MarshalIndent(list, "", " ")
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join("testdata", "typed.json")
	if *updateTyped {
		if err := os.WriteFile(path, text, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if was, err := os.ReadFile(path); err != nil || !bytes.Equal(was, text) {
		t.Errorf("%s is not what the stories say (%v); run the test with -update-typed", path, err)
	}
}
