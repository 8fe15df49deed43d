package verify

import (
	"fmt"
	"slices"
	"strings"

	"fundus/core/advice"
	"fundus/core/finding"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/way"
)

// tables gives what reading the tables found.
func tables(v *inventory.Inventory) []finding.Finding {
	var out []finding.Finding
	for _, n := range v.Disks() {
		out = append(out, n.TableBad...)
		out = append(out, kernelDiffers(v, n)...)
	}
	return out
}

// kernelDiffers holds the kernel's partitions against the table.
//
// The kernel keeps its own list, which is what /dev shows; it follows the table when
// somebody tells it, and cannot follow where a partition is in use. Until then a write to
// /dev/sdb2 goes to where the second partition was. Images and volumes are left out: the
// kernel of this machine has no list for them, or keeps another one.
func kernelDiffers(v *inventory.Inventory, disk inventory.Node) []finding.Finding {
	if disk.Form == inventory.Image || disk.Form == inventory.Volume || disk.Minor() && len(disk.Kernel) == 0 || disk.Problem != "" ||
		disk.Table == nil && len(disk.TableBad) > 0 ||
		disk.Table != nil && disk.Table.Unseen != "" {
		return nil
	}
	var words []string
	named := map[int]bool{}
	for _, n := range v.Parts(disk.Name) {
		named[n.Number] = true
		i := slices.IndexFunc(disk.Kernel, func(k inventory.KernelPart) bool { return k.Number == n.Number })
		switch {
		// What the kernel leaves out on purpose is the table's own check to say.
		case i < 0 && n.Linux.Size > 0:
			words = append(words, fmt.Sprintf("it does not know partition %d", n.Number))
		case i >= 0 && !n.InKernel && n.Linux.Size > 0:
			k := disk.Kernel[i]
			words = append(words, fmt.Sprintf("its partition %d has %v from byte %d, in the table %v from byte %d",
				n.Number, k.Size, k.Start, n.Linux.Size, n.Linux.Start))
		}
	}
	for _, k := range disk.Kernel {
		// What is numbered behind a nested table of another system is in the kernel's list
		// and in no table that is read here.
		if !named[k.Number] && !(disk.Table != nil && disk.Table.Nested()) {
			words = append(words, fmt.Sprintf("its partition %d (%v) is not in the table", k.Number, k.Size))
		}
	}
	if words == nil {
		return nil
	}
	return []finding.Finding{KernelDiffers.New(disk.Name, "the kernel has other partitions: %s",
		strings.Join(words, "; ")).WithMend(way.Rescan(disk.Name))}
}

// contents looks at what lies on each device.
//
// One finding a node at most: a fence hides what is behind it, and of several signatures
// nobody can say which size is to be believed.
func contents(v *inventory.Inventory) []finding.Finding {
	var out []finding.Finding
	for _, n := range v.Nodes {
		if n.Problem != "" {
			if disk, _ := v.Node(n.Parent); disk.Problem == n.Problem || n.Entry.Number > 0 && n.Entry.Span.Count == 0 {
				continue // said of the disk already, or of its table
			}
			out = append(out, unread(n))
			if n.Silent || len(n.Contents) == 0 {
				continue
			}
		}
		c, ok := n.Content()
		switch {
		case ok && c.Class == fs.Fence:
			out = append(out, ContentFenced.New(n.Name, "fenced by deed %s", c.UUID).WithMend(way.Recover(c.UUID)))
		case ok && c.AtEnd: // the others are what the array holds
		case ok && c.Beside && nonTables(n) == 1: // a volume with a table in front is made so
		case !ok && nonTables(n) > 1, ok && len(n.Contents) > 1:
			out = append(out, twofold(n, ok))
		case ok && c.State == fs.Damaged && c.Class != fs.Table:
			out = append(out, ContentDamaged.New(n.Name, "the %s is damaged: %s", c.Kind, damage(c)).
				WithRemedy("write nothing there, and copy the device away as it is before anything is tried; fundus inspect %s says what is wrong",
					n.Name))
		case ok && c.AtMount.Any != "" && len(v.UsesOf(n.Name)) == 0:
			out = append(out, ContentDamaged.New(n.Name, "the %s is damaged, and the kernel does not mount it: %s", c.Kind, c.AtMount.Any).
				WithRemedy("write nothing there, and copy the device away as it is before anything is tried; its superblock is whole"))
		case ok && c.AtMount.Journal != "" && len(v.UsesOf(n.Name)) == 0:
			out = append(out, ContentDamaged.New(n.Name,
				"the %s is damaged, and the kernel mounts it without its journal alone: %s", c.Kind, c.AtMount.Journal).
				WithRemedy("copy away what is in it (fundus mount %s DIRECTORY --untouched), before anything is tried", n.Name))
		case ok && c.AtMount.Writing != "" && len(v.UsesOf(n.Name)) == 0:
			out = append(out, ContentDamaged.New(n.Name,
				"the %s is damaged, and the kernel mounts it read-only: %s", c.Kind, c.AtMount.Writing).
				WithRemedy("copy away what is in it (fundus mount %s DIRECTORY --untouched), before anything is tried", n.Name))
		case n.Unrecognised():
			f := ContentUnknown.New(n.Name, "its contents are not recognised")
			if n.Form == inventory.Disk {
				out = append(out, f.WithMend(way.TableRepair(n.Name, "--search")))
				break
			}
			out = append(out, f.WithRemedy("look what was there (fundus inspect %s); what is still needed is copied away before anything is written there",
				n.Name))
		case ok && c.Size > n.Size:
			out = append(out, ContentTooLarge.New(n.Name, "the file system has %d bytes, the device %d", c.Size, n.Size).
				WithRemedy("give the partition its former size again"))
		}
	}
	return out
}

// damage is what the probe found wrong.
func damage(c fs.Content) string {
	for _, f := range c.Facts {
		if f.Name == "damage" {
			return f.Value
		}
	}
	return "its superblock breaks the rules of its kind"
}

func unread(n inventory.Node) finding.Finding {
	if n.Silent {
		return DeviceSilent.New(n.Name, "%s", n.Problem).WithRemedy("look at its cable and power, and at the kernel's log; until then leave out of fstab what is on it, or give it nofail")
	}
	return DeviceUnread.New(n.Name, "%s", n.Problem).WithRemedy("run it as root, outside of a container; if it fails there too, look at the kernel's log and the cable, and copy away what can still be read before anything is written")
}

func nonTables(n inventory.Node) int {
	count := 0
	for _, c := range n.Contents {
		if c.Class != fs.Table {
			count++
		}
	}
	return count
}

// twofold is a node with several signatures, of which one is believed or none.
//
// It is an error only where udev believes none of them: then the device has no identifier,
// and what names it by one waits at boot.
func twofold(n inventory.Node, believed bool) finding.Finding {
	f := ContentTwofold.New(n.Name, "carries several signatures: %s; believed is %s", advice.Signatures(n), advice.Believed(n))
	if believed {
		f.Severity = finding.Warning
	}
	return f.WithRemedy("look which one is stale (fundus inspect %s), and copy away what is still needed of the other", n.Name)
}
