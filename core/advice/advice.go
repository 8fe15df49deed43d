package advice

import (
	"cmp"
	"fmt"
	"strings"

	"fundus/core/inventory"
	"fundus/core/table"
	"fundus/core/way"
)

// Wish is what somebody wanted of the device, and did not find.
type Wish int

// The wishes.
const (
	Table      Wish = iota // a partition table
	FileSystem             // something that can be mounted
)

// Advice is why the wish is not fulfilled, and the command that leads on without losing
// anything; empty where there is none.
type Advice struct {
	Why  string
	Next way.Step
}

// For says what may be done about a device that lacks something.
func For(v *inventory.Inventory, n inventory.Node, w Wish) Advice {
	inspect := way.Inspect(n.Name)
	switch n.Holding() {
	case inventory.Silent:
		return Advice{n.Problem, way.None()}
	case inventory.Unreadable:
		return Advice{"it cannot be read: " + cmp.Or(n.Problem, n.Hardware.State), way.None()}
	case inventory.Fenced:
		c, _ := n.Content()
		return Advice{"it is fenced by deed " + c.UUID + ", which was cut short and can bring back what was there", way.Recover(c.UUID)}
	case inventory.Chain:
		return Advice{"it is extended, and holds the chain of logical partitions" + logical(v, n), way.PartitionList(n.Parent)}
	case inventory.NoSectors:
		return Advice{"its entry in the table has no sectors", way.PartitionList(n.Parent)}
	case inventory.LostTable:
		return Advice{"its partition table is damaged in every copy; look for what was on it", way.TableRepair(n.Name, "--search")}
	case inventory.Unknown:
		if n.Form == inventory.Partition {
			return Advice{"it holds data that Fundus does not recognise", inspect}
		}
		return Advice{
			"it has no table, and holds data that Fundus does not recognise; perhaps its table was lost",
			way.TableRepair(n.Name, "--search"),
		}
	case inventory.Known:
		return Advice{"it holds " + words(n), inspect}
	case inventory.Parts:
		return Advice{"it is a disk with partitions: " + parts(v, n), way.None()}
	case inventory.Vacant:
		if w == FileSystem {
			return Advice{"it has a partition table without a partition", way.PartitionAdd(n.Name)}
		}
	}
	if w == FileSystem {
		return Advice{"it is empty", way.Format(n.Name, "ext4")}
	}
	return Advice{"it is empty", way.TableNew(n.Name)}
}

// words name everything that is recognised.
func words(n inventory.Node) string {
	if len(n.Contents) == 0 {
		return Words(n)
	}
	var list []string
	for _, c := range n.Contents {
		list = append(list, strings.TrimSpace(c.Kind+" "+c.Label))
	}
	return strings.Join(list, " and ")
}

// parts name the partitions with what they hold.
func parts(v *inventory.Inventory, disk inventory.Node) string {
	var list []string
	for _, n := range v.Parts(disk.Name) {
		if n.Entry.Role != table.Extended {
			list = append(list, fmt.Sprintf("%s (%s)", n.Name, Words(n)))
		}
	}
	return strings.Join(list, ", ")
}

// logical names those inside of an extended partition.
func logical(v *inventory.Inventory, n inventory.Node) string {
	var list []string
	for _, o := range v.Parts(n.Parent) {
		if o.Entry.Role == table.Logical {
			list = append(list, o.Name)
		}
	}
	if len(list) == 0 {
		return ", of which there is none"
	}
	return ": " + strings.Join(list, ", ")
}

// Absent says what may be done about a line of fstab that names a device which is not there:
// what a deed can bring back is brought back before the line goes. What a search may find on a
// disk that is not recognised is said of that disk, and not of every line.
func Absent(v *inventory.Inventory, dir, shown string) Advice {
	for _, n := range v.Nodes {
		if n.Holding() == inventory.Fenced {
			return For(v, n, FileSystem)
		}
	}
	if Kept(dir) {
		return Advice{"the machine does not start without the line", way.None()}
	}
	return Advice{"", way.FstabDisable(shown)}
}

// Kept reports whether a line of fstab for the mount point is one without which the machine
// does not start: its removal is never advised.
func Kept(dir string) bool {
	switch dir {
	case "/", "/usr", "/boot", "/boot/efi", "/efi":
		return true
	}
	return false
}
