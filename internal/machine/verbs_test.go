package machine

import (
	"reflect"
	"strings"
	"testing"

	"fundus/core/inventory"
)

// TestVerbs: in plain data the effect of each verb is what is asked for when it is asked
// whether it holds, and that of its inverse takes it back; what others hold of the lists
// stays as it was.
func TestVerbs(t *testing.T) {
	for _, a := range []Action{
		{Verb: AddPartition, Device: "sdb", PartArgs: PartArgs{Number: 2, Start: 1 << 20, Size: 4 << 20}},
		{Verb: ResizePartition, Device: "sdb", PartArgs: PartArgs{Number: 1, Start: 8 << 20, Size: 2 << 20, Was: 1 << 20}},
		{Verb: Mount, Device: "sdb1", UseArgs: UseArgs{Where: "/srv/herbarium"}},
		{Verb: StartUnit, UseArgs: UseArgs{From: "tmpfs", Where: "/srv/scratch"}},
		{Verb: SwapOn, Device: "sdb1"},
		{Verb: Start, UseArgs: UseArgs{Unit: "srv-scans.automount", Where: "/srv/scans"}},
		{Verb: Start, UseArgs: UseArgs{Unit: "srv-herbarium.mount", Where: "/srv/herbarium"}, Device: "sdb1"},
		{Verb: Start, UseArgs: UseArgs{Unit: "srv-scratch.mount", From: "tmpfs", Where: "/srv/scratch"}},
		{Verb: Start, UseArgs: UseArgs{Unit: "dev-sdb1.swap", From: "/dev/sdb1"}, Device: "sdb1"},
	} {
		disk := inventory.Node{Name: "sdb", Form: inventory.Disk, Kernel: []inventory.KernelPart{{Number: 1, Start: 8 << 20, Size: 1 << 20}}}
		v := &inventory.Inventory{Nodes: []inventory.Node{disk, {Name: "sdb1", Parent: "sdb", Form: inventory.Partition, Number: 1}}, Dirs: map[string]bool{"/srv/herbarium": true}}
		nodes, kernel := v.Nodes, disk.Kernel
		back, ok := a.Inverse()
		if !ok || Holds(v, a) {
			t.Errorf("%v holds before it is done, or has no inverse", a)
		}
		Effect(v, a)
		if !Holds(v, a) || Holds(v, back) {
			t.Errorf("%v: it does not hold, or its inverse does", a)
		}
		if len(nodes[0].Kernel) != 1 || len(kernel) != 1 || kernel[0].Size != 1<<20 {
			t.Errorf("%v changed lists that somebody else holds", a)
		}
		Effect(v, back)
		if Holds(v, a) || !Holds(v, back) {
			t.Errorf("%v was not taken back", a)
		}
	}
	for verb, known := range verbs() {
		a := Action{Verb: verb, Device: "sdb1", UseArgs: UseArgs{From: "/srv", Options: "ro", FormerOptions: "rw"}, ContentArgs: ContentArgs{Label: "new", FormerLabel: "old", ID: "1", FormerID: "2"}, PartArgs: PartArgs{Size: 1, Was: 2}}
		if verb == Mount {
			a.From = ""
		}
		if verb == StartUnit {
			a.Device = ""
		}
		back, has := a.Inverse()
		if again, _ := back.Inverse(); known.words(a) == "" || has && !reflect.DeepEqual(again, a) || has && reflect.DeepEqual(back, a) && !known.aside {
			t.Errorf("%s: no words, or an inverse that is not its inverse: %+v, %+v", verb, back, again)
		}
	}
	unknown := Action{Verb: "freeze"}
	if _, ok := unknown.Inverse(); ok || unknown.Visible() || Holds(&inventory.Inventory{}, unknown) || !strings.Contains(unknown.String(), "does not know") {
		t.Errorf("a verb of another release is taken for %v", unknown)
	}
}
