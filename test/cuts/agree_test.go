package cuts

import (
	"fmt"
	"strings"
	"testing"

	"fundus/core/boot"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/quantity"
	lined "fundus/test/agree"
)

// TestLinesOfStories: of a line for whatever a story finds, by each of its names, the check of fstab
// and the rehearsal say the same, before the story and after it, when some of the names are gone.
func TestLinesOfStories(t *testing.T) {
	lines, states := 0, 0
	for _, s := range stories() {
		if s.keep || s.spoil > 0 || s.swaps != "" {
			continue
		}
		r, store := newRig(t, max(s.physics, 512), max(s.logical, 512)), storeIn(t)
		if s.large {
			r.larger()
		}
		must(t, r, store, s.before...)
		r.faulty = nil
		before, err := r.Inventory(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		text := named(before)
		if _, err := r.commit(store, s.cut); err != nil {
			continue // what is refused leaves what was
		}
		r.faulty = nil
		after, err := r.Inventory(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		for when, v := range map[string]*inventory.Inventory{"before": before, "after": after} {
			wrong, n := lined.Lines(withTable(v, text))
			lines, states = lines+n, states+1
			if len(wrong) > 0 {
				t.Errorf("%s, %s:\n%s", s.name, when, strings.Join(wrong, "\n"))
			}
		}
	}
	if lines < 300 {
		t.Errorf("%d lines", lines)
	}
	fmt.Printf("check and rehearsal agree on %d lines in %d states of stories\n", lines, states)
}

// named are lines for all that lies on the machine, by each of its names, and one for what does not.
func named(v *inventory.Inventory) string {
	text := "/dev/sda1 / ext4 defaults 0 1\nUUID=5eed5eed-0000-4000-8000-000000000bad /srv/gone ext4 nofail 0 2\n"
	n := 0
	add := func(spec string, c fs.Content, options string) {
		dir := fmt.Sprintf("/srv/%d", n)
		if c.Class == fs.Swap {
			dir = "none"
		}
		text += fmt.Sprintf("%s %s %s %s 0 0\n", spec, dir, c.MountType(), options)
		n++
	}
	for _, d := range v.Nodes {
		c, ok := d.Content()
		if !ok || c.Class != fs.FileSystem && c.Class != fs.Swap {
			continue
		}
		for i, spec := range []string{"UUID=" + c.UUID, "LABEL=" + c.Label, "PARTUUID=" + d.Entry.UUID, d.Path} {
			if !strings.HasSuffix(spec, "=") {
				add(spec, c, []string{"defaults", "nofail", "noauto", "ro,nosuchoption"}[i])
			}
		}
	}
	return text
}

// withTable is the machine with a root, and with the table.
func withTable(v *inventory.Inventory, text string) *inventory.Inventory {
	out := boot.WithFstab(v, []byte(text))
	out.Nodes = append(out.Nodes, inventory.Node{Name: "sda1", Path: "/dev/sda1", Form: inventory.Partition, Parent: "sda", Size: quantity.GiB, InKernel: true,
		Contents: []fs.Content{{Kind: "ext4", Types: []string{"ext4"}, Class: fs.FileSystem, UUID: "5eed5eed-0000-4000-8000-0000000000aa", Size: quantity.GiB, State: fs.Clean}}})
	for i := range 40 {
		out.Dirs[fmt.Sprintf("/srv/%d", i)] = true
	}
	out.Dirs["/srv/gone"], out.Dirs["/"] = true, true
	return out
}
