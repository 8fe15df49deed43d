package verify

import (
	"cmp"
	"slices"
	"strings"

	"github.com/google/uuid"

	"fundus/core/finding"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/way"
)

// identifiers looks for UUIDs, labels, PARTUUIDs and disk identifiers that two
// devices carry.
//
// A copy of a disk, made block by block, has every identifier of the first: whichever the
// kernel finds first is mounted, which changes from boot to boot, and with btrfs both are
// written to as if they were one.
func identifiers(v *inventory.Inventory) []finding.Finding {
	type key struct {
		what  finding.Entry
		value string
	}
	carriers := map[key][]string{}
	add := func(what finding.Entry, value, node string) {
		if value != "" {
			k := key{what, value}
			carriers[k] = append(carriers[k], node)
		}
	}
	for _, n := range v.Nodes {
		ids := n.Identifiers()
		if n.Parent != "" && sameAsDisk(v, n) {
			continue // a partition from the first sector on, seen twice
		}
		// What is built on a device shows what is on it; and one file system may
		// lie on several devices.
		if c, ok := n.Content(); ok && !c.Spans() && !v.Held(n.Name) {
			add(DuplicateUUID, ids["UUID"], n.Name)
			add(DuplicateLabel, ids["LABEL"], n.Name)
		}
		add(DuplicatePartUUID, ids["PARTUUID"], n.Name)
		if n.Table != nil {
			add(DuplicateDisk, n.Table.ID, n.Name)
		}
	}
	var out []finding.Finding
	for k, nodes := range carriers {
		if len(nodes) > 1 {
			f := k.what.New(nodes[len(nodes)-1], "%s is carried by %s", k.value, strings.Join(nodes, " and ")).
				WithRemedy("one is probably a copy of the other: take the copy out before the next boot")
			// What is in use is hardly the copy that is to change.
			last := nodes[len(nodes)-1]
			for _, o := range nodes {
				if used(v, o) < used(v, last) {
					last = o
				}
			}
			switch {
			case k.what == DuplicateDisk:
				f = f.WithMend(way.TableEdit(last, "--uuid=new"))
			case k.what == DuplicateUUID:
				if n, _ := v.Node(last); identifies(n) {
					f = f.WithMend(way.Adjust(last, "uuid=new"))
				}
			case k.what == DuplicateLabel:
				if n, _ := v.Node(last); labels(n) {
					f = f.WithMend(way.Label(last, "NEW-NAME").Asking("NEW-NAME"))
				}
			case k.what == DuplicatePartUUID && len(k.value) == len(uuid.Nil.String()): // of a GPT; in an MBR it is the disk's
				f = f.WithMend(way.PartitionEdit(last, "--uuid", "new"))
			}
			out = append(out, f)
		}
	}
	slices.SortFunc(out, func(a, b finding.Finding) int {
		return cmp.Or(cmp.Compare(a.ID, b.ID), cmp.Compare(a.Text, b.Text))
	})
	return out
}

// sameAsDisk reports whether the whole disk holds the very content of the partition, which
// begins where the disk does: an image for a stick, whose table names itself.
func sameAsDisk(v *inventory.Inventory, n inventory.Node) bool {
	disk, _ := v.Node(n.Parent)
	a, okA := n.Content()
	b, okB := disk.Content()
	return okA && okB && a.Kind == b.Kind && a.UUID == b.UUID && n.Start == 0
}

// used counts the uses of a node and of its partitions.
func used(v *inventory.Inventory, name string) (n int) {
	for _, o := range v.Family(name) {
		n += len(v.UsesOf(o.Name))
	}
	return n
}

// identifies reports whether Fundus gives what lies there another identifier.
func identifies(n inventory.Node) bool {
	c, ok := n.Content()
	k, _ := kind.Of(c)
	return ok && k.SetID != nil
}

func labels(n inventory.Node) bool {
	c, ok := n.Content()
	return ok && c.Labels
}

// nearest finds the node that a stale line most probably means: the one that
// is mounted where the line says.
func nearest(v *inventory.Inventory, dir string) string {
	if use, ok := v.MountedAt(dir); ok {
		return use.Node
	}
	return ""
}
