package advice

import (
	"cmp"
	"fmt"
	"strings"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/table"
)

// Holding is what a device holds, or may hold, as far as it matters to whoever would write
// to it.
type Holding string

// The holdings.
const (
	Empty      Holding = "empty"            // every sampled place reads as zeros
	Vacant     Holding = "a table, no part" // a partition table without a partition
	Parts      Holding = "partitions"
	Content    Holding = "content" // something that a probe recognises
	Unknown    Holding = "unknown" // data that none recognises
	LostTable  Holding = "lost table"
	Unreadable Holding = "unreadable"
	Silent     Holding = "silent"
	Fenced     Holding = "fenced"
	Chain      Holding = "chain" // an extended partition
)

// Of tells what the device holds. The order is that of what must not be overlooked: a disk
// that is silent says nothing about its content, a fence stands in place of something, and
// what could not be read may be anything.
func Of(n inventory.Node) Holding {
	c, ok := n.Content()
	switch {
	case n.Silent:
		return Silent
	case n.Hardware.State == inventory.NoMedium:
		return Unreadable
	case ok && c.Class == fs.Fence:
		return Fenced
	case n.Entry.Role == table.Extended:
		return Chain
	case n.Problem != "":
		return Unreadable
	case ok:
		return Content
	case n.Table != nil && len(n.Table.Parts) > 0:
		return Parts
	case n.Table == nil && len(n.TableBad) > 0:
		return LostTable
	case n.Table != nil:
		return Vacant
	case n.Within != "":
		return Content
	case len(n.Contents) > 0: // several that contradict each other, or a table that nobody can read
		return Content
	case n.Zeros:
		return Empty
	}
	return Unknown
}

// MayHold reports whether something could be lost. A table without a partition is nothing
// that anybody would miss: it is made again in a moment.
func (h Holding) MayHold() bool { return h != Empty && h != Vacant }

// Wish is what somebody wanted of the device, and did not find.
type Wish int

// The wishes.
const (
	Table      Wish = iota // a partition table
	FileSystem             // something that can be mounted
)

// Advice is why the wish is not fulfilled, and the command that leads on without losing
// anything; empty where there is none.
type Advice struct{ Why, Next string }

// For says what may be done about a device that lacks something.
func For(v *inventory.Inventory, n inventory.Node, w Wish) Advice {
	inspect := "fundus inspect " + n.Name
	switch h := Of(n); h {
	case Silent:
		return Advice{n.Problem, ""}
	case Unreadable:
		return Advice{"it cannot be read: " + cmp.Or(n.Problem, n.Hardware.State), ""}
	case Fenced:
		c, _ := n.Content()
		return Advice{"it is fenced by deed " + c.UUID + ", which was cut short and can bring back what was there", "fundus recover " + c.UUID}
	case Chain:
		return Advice{"it is extended, and holds the chain of logical partitions" + logical(v, n), "fundus partition list " + n.Parent}
	case LostTable:
		return Advice{"its partition table is damaged in every copy; look for what was on it", "fundus table repair " + n.Name + " --search"}
	case Unknown:
		if n.Form == inventory.Partition {
			return Advice{"it holds data that Fundus does not recognise", inspect}
		}
		return Advice{"it has no table, and holds data that Fundus does not recognise; perhaps its table was lost", "fundus table repair " + n.Name + " --search"}
	case Content:
		return Advice{"it holds " + words(n), inspect}
	case Parts:
		return Advice{"it is a disk with partitions: " + parts(v, n), ""}
	case Vacant:
		if w == FileSystem {
			return Advice{"it has a partition table without a partition", "fundus partition add " + n.Name}
		}
	}
	if w == FileSystem {
		return Advice{"it is empty", "fundus format " + n.Name + " ext4"}
	}
	return Advice{"it is empty", "fundus table new " + n.Name}
}

// words name everything that is recognised.
func words(n inventory.Node) string {
	if len(n.Contents) == 0 {
		return n.Words()
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
			list = append(list, fmt.Sprintf("%s (%s)", n.Name, n.Words()))
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
		if Of(n) == Fenced {
			return For(v, n, FileSystem)
		}
	}
	if Kept(dir) {
		return Advice{"the machine does not start without the line", ""}
	}
	return Advice{"", "fundus fstab disable " + shown}
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
