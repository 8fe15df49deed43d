package target

import (
	"errors"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"

	"fundus/core/advice"
	"fundus/core/inventory"
	"fundus/core/near"
	"fundus/core/refused"
	"fundus/core/scan"
	"fundus/core/way"
)

// Errors of targets.
var (
	ErrNoTarget = errors.New("no such device")
	ErrTwoFit   = errors.New("carried by two devices")
	ErrNotDisk  = errors.New("not a whole disk")
	ErrNotPart  = errors.New("not a partition")
	ErrNoTable  = errors.New("no partition table to work on")
)

// Resolve finds the device that the word means: a path, a mount point, an
// identifier, or a name.
//
// The order is that of what can be meant by accident least: the name of a device first,
// then identifiers, then what is mounted, and last what fstab would mount there, which may
// be a device that is not even used now.
func Resolve(v *inventory.Inventory, word string) (inventory.Node, error) {
	n, err := exact(v, word)
	if !errors.Is(err, ErrNoTarget) {
		return n, err
	}
	list := loose(v, word)
	if len(list) == 0 {
		return n, unknown(v, word)
	}
	var names []string
	for _, m := range list {
		names = append(names, m.how+" "+m.node.Name)
	}
	return n, &LooseError{word, strings.Join(names, ", "), list[0].node.Name, len(list) == 1}
}

// LooseError is a word that fits a device without naming it: a label, a serial number, the
// beginning of an identifier. It is an ErrNoTarget.
type LooseError struct {
	Word string // as it was said
	Fits string // what it is of which devices
	Node string // the first of them
	Only bool   // there is no other
}

func (e *LooseError) Error() string {
	return fmt.Sprintf("%q: %v of that name: it is %s; a change wants the device named: %s", e.Word, ErrNoTarget, e.Fits, e.Node)
}

// Unwrap gives the class of the error.
func (e *LooseError) Unwrap() error { return ErrNoTarget }

// Look finds the device that a word of a command means that only looks: what Resolve
// finds, or else what the word belongs to and nothing else: a serial number, a label, the
// beginning of an identifier, the kernel's number.
//
// A change is not begun by such a word: a label or a beginning that fits one device today
// may fit another tomorrow, in a line that was kept.
func Look(v *inventory.Inventory, word string) (inventory.Node, error) {
	n, err := exact(v, word)
	if !errors.Is(err, ErrNoTarget) {
		return n, err
	}
	switch list := loose(v, word); len(list) {
	case 0:
		return n, unknown(v, word)
	case 1:
		return list[0].node, nil
	default:
		return n, twoFit(word, list[0].node, list[1].node)
	}
}

// exact is what the word names and nothing else could.
//
// A slash at the end is a habit of completion in shells, and means no other thing.
func exact(v *inventory.Inventory, word string) (inventory.Node, error) {
	if clean := strings.TrimRight(word, "/"); clean != "" {
		word = clean
	}
	if n, ok := v.Node(word); ok {
		return n, nil
	}
	if n, ok := numbered(v, word); ok {
		return n, nil
	}
	if strings.Contains(word, "=") || strings.HasPrefix(word, "/") {
		if found := identified(v, word); len(found) > 0 {
			return only(word, found)
		}
	}
	if use, ok := v.MountedAt(word); ok {
		if n, there := v.Node(use.Node); there { // else its device is gone
			return n, nil
		}
	}
	if strings.HasPrefix(word, "/") {
		by := v.Resolver()
		for _, l := range v.Fstab().Entries() {
			if found := by.Resolve(l.Entry.Spec); l.Entry.Dir == filepath.Clean(word) && len(found) > 0 {
				return only(l.Entry.Spec, found)
			}
		}
		for _, u := range v.Kept() {
			if found := by.Resolve(u.Entry.Spec); u.None == "" && u.Where == filepath.Clean(word) && len(found) > 0 {
				return only(u.Entry.Spec, found)
			}
		}
	}
	return inventory.Node{}, fmt.Errorf("%q: %w", word, ErrNoTarget)
}

// numbered reads "sdb:1", as partitions of an image are named.
//
// It is exact: no disk has a colon in its name, and the number is the table's.
func numbered(v *inventory.Inventory, word string) (inventory.Node, bool) {
	name, number, ok := strings.Cut(word, ":")
	if d, found := v.Node(name); ok && found && d.Parent == "" {
		for _, p := range v.Parts(d.Name) {
			if strconv.Itoa(p.Number) == number {
				return p, true
			}
		}
	}
	return inventory.Node{}, false
}

// links are the folders in which udev names devices by what they carry, with the tag that
// says the same.
func links() map[string]string {
	return map[string]string{"by-uuid": "UUID", "by-label": "LABEL", "by-partuuid": "PARTUUID", "by-partlabel": "PARTLABEL"}
}

// identified finds what a path or TAG=VALUE names. Numbers are written in either case; a
// link that no udev has made, as on a bench, is what it would say.
func identified(v *inventory.Inventory, word string) []inventory.Node {
	if found := v.Resolve(word); len(found) > 0 {
		return found
	}
	if dir, value := filepath.Split(word); strings.HasPrefix(dir, "/dev/disk/") {
		return v.Resolve(links()[filepath.Base(dir)] + "=" + value)
	}
	tag, value, _ := strings.Cut(word, "=")
	tag, value = strings.ToUpper(tag), strings.Trim(value, `"`)
	found := tagged(v, tag, value)
	if at := strings.LastIndexByte(value, ':'); at > 0 && (tag == "SERIAL" || tag == "WWN") {
		// A partition of that disk. A serial number may end so by itself: where both are there, two fit.
		for _, d := range tagged(v, tag, value[:at]) {
			if p, ok := numbered(v, d.Name+value[at:]); ok {
				found = append(found, p)
			}
		}
	}
	return found
}

// tagged finds the devices with that value of the tag.
func tagged(v *inventory.Inventory, tag, value string) (found []inventory.Node) {
	for _, n := range v.Nodes {
		own := n.Identifiers()[tag]
		switch {
		case n.Parent != "" && (tag == "SERIAL" || tag == "MODEL" || tag == "WWN"):
			own = "" // what a disk says of itself
		case tag == "SERIAL":
			own = n.Hardware.Serial
		case tag == "WWN":
			own = n.Hardware.WWN
		case tag == "MODEL":
			own = n.Hardware.Model
		case tag != "UUID" && tag != "PARTUUID":
			own = ""
		}
		if own != "" && strings.EqualFold(own, value) {
			found = append(found, n)
		}
	}
	return found
}

// match is a device with what the word is to it.
type match struct {
	node inventory.Node
	how  string // "the label of"
}

// leastBegin is how much of an identifier must be there to mean it: the first group of a
// UUID, which is what people copy from a line by eye.
const leastBegin = 8

// loose finds what the word belongs to, though it does not name it.
//
// A serial number is the disk's alone: its partitions carry it too, as part of what is known
// of their hardware, and would make every serial number fit many.
func loose(v *inventory.Inventory, word string) (list []match) {
	_, begun, tagged := strings.Cut(word, "=")
	if !tagged {
		begun = word
	}
	begins := func(id string) bool {
		return len(begun) >= leastBegin && len(id) >= len(begun) && strings.EqualFold(id[:len(begun)], begun)
	}
	for _, n := range v.Nodes {
		ids := n.Identifiers()
		switch {
		case word == "":
		case n.Parent == "" && word == n.Hardware.Serial:
			list = append(list, match{n, "the serial number of"})
		case word == n.Device:
			list = append(list, match{n, "the kernel's number of"})
		case word == ids["LABEL"]:
			list = append(list, match{n, "the label of"})
		case word == ids["PARTLABEL"]:
			list = append(list, match{n, "the name in the table of"})
		case begins(ids["UUID"]), begins(ids["PARTUUID"]):
			list = append(list, match{n, "the beginning of an identifier of"})
		}
	}
	return list
}

// Two devices with one identifier are a copied disk: to take the first would be to choose
// by the order of discovery which of the two is overwritten.
func only(word string, found []inventory.Node) (inventory.Node, error) {
	if len(found) > 1 {
		return inventory.Node{}, twoFit(word, found[0], found[1])
	}
	return found[0], nil
}

func twoFit(word string, a, b inventory.Node) error {
	return fmt.Errorf("%s: %w: %s and %s; name the one you mean", word, ErrTwoFit, a.Name, b.Name)
}

// unknown is the answer to a word that means nothing: what it could have been, by its form.
//
// What is spelled alike is offered for names of devices alone. Beside a path or an identifier
// it would be another thing, and somebody in a hurry takes what is offered.
func unknown(v *inventory.Inventory, word string) error {
	none := fmt.Errorf("%q: %w", word, ErrNoTarget)
	image := strings.Contains(word, ".img")
	switch {
	case len(v.Nodes) == 0:
		return fmt.Errorf("%w; an image file is named by its path, and a bench (fundus bench new) is a machine to try things on", none)
	case filepath.Base(word) == "fstab":
		return way.To(fmt.Errorf("%w: it is a text file", none), way.FstabCheck())
	case strings.ContainsAny(word, ", *?"):
		return way.To(fmt.Errorf("%w; each device is a word of its own", none), way.Survey())
	case Gone(v, word):
		return lacks(v, word, none)
	case tableless(v, word) != "":
		return way.To(fmt.Errorf("%w; %s has no partition table", none, tableless(v, word)), way.Survey(tableless(v, word)))
	case image && endsInDigit(word) && !strings.Contains(word, ":"):
		at := strings.LastIndex(word, ".img") + len(".img")
		return fmt.Errorf("%w; a partition of an image is written %s:%s", none, word[:at], word[at:])
	case image || strings.Contains(word, "/") && !strings.HasPrefix(word, "/"):
		return refused.As(refused.NoSuchThing, fmt.Errorf("%w, and there is no such file", none))
	case strings.HasPrefix(word, "/") && !strings.HasPrefix(word, "/dev/"):
		return way.To(fmt.Errorf("%w; nothing is mounted there, and fstab has no line for it", none), way.Survey())
	}
	return nearest(v, word, none)
}

func endsInDigit(word string) bool {
	return word != "" && word[len(word)-1] >= '0' && word[len(word)-1] <= '9'
}

// nearest suggests names that differ by a letter or two.
//
// Only names are compared: a suggestion is what is there, not what might be meant, and an
// identifier or a label that is spelled alike is another one.
func nearest(v *inventory.Inventory, word string, none error) error {
	const alike = 2
	best, names := alike, []string(nil)
	for _, n := range v.Nodes {
		switch d := near.Distance(n.Name, filepath.Base(word)); {
		case strings.Contains(word, "=") || d > best:
		case d < best:
			best, names = d, []string{n.Name}
		default:
			names = append(names, n.Name)
		}
	}
	if len(names) == 0 {
		return way.To(none, way.Survey())
	}
	const few = 6
	words := strings.Join(names[:min(few, len(names))], ", ")
	if len(names) > few {
		words += " …"
	}
	return fmt.Errorf("%w; there is %s", none, words)
}

// Disk resolves a word that must mean a whole disk.
func Disk(v *inventory.Inventory, word string) (inventory.Node, error) {
	n, err := Resolve(v, word)
	return whole(n, word, err)
}

// LookDisk is Disk for a command that only looks.
func LookDisk(v *inventory.Inventory, word string) (inventory.Node, error) {
	n, err := Look(v, word)
	return whole(n, word, err)
}

func whole(n inventory.Node, word string, err error) (inventory.Node, error) {
	if err == nil && n.Parent != "" {
		err = fmt.Errorf("%s: %w: it is partition %d of %s; did you mean %s?", word, ErrNotDisk, n.Number, n.Parent, n.Parent)
	}
	return n, err
}

// Partition resolves a word that must mean a partition.
func Partition(v *inventory.Inventory, word string) (inventory.Node, error) {
	n, err := Resolve(v, word)
	if err == nil && n.Parent == "" {
		err = way.To(fmt.Errorf("%s: %w but a whole disk%s", n.Name, ErrNotPart, has(v, n)), way.PartitionList(n.Name))
	}
	return n, err
}

// has names the partitions of a disk, where they are few: more do not fit a line, and are
// listed by a command of their own.
func has(v *inventory.Inventory, disk inventory.Node) string {
	const few = 4
	var names []string
	for _, p := range v.Parts(disk.Name) {
		names = append(names, p.Name)
	}
	if len(names) == 0 || len(names) > few {
		return ""
	}
	return "; it has " + strings.Join(names, ", ")
}

// Gone reports whether the word is the name of a partition that a disk could have and has
// not: "sdb7" beside a table without a seventh partition.
func Gone(v *inventory.Inventory, word string) bool {
	_, gone := without(v, word)
	return gone
}

// tableless is the disk or image of a word for one of its partitions, which it cannot have without a
// table; "" for another word.
func tableless(v *inventory.Inventory, word string) string {
	disk, number, is := strings.Cut(word, ":")
	if n, known := v.Node(disk); is && known && n.Table == nil && number != "" && strings.Trim(number, "0123456789") == "" {
		return n.Name
	}
	return ""
}

// without finds the disk of a partition that it does not have.
func without(v *inventory.Inventory, word string) (inventory.Node, bool) {
	const most = 256 // numbers that Linux has devices for
	for _, d := range v.Disks() {
		if d.Table == nil || !strings.HasPrefix(word, d.Name) && !strings.HasPrefix(word, d.Path) {
			continue
		}
		for n := 1; n < most; n++ {
			name, path := scan.Name(d, n)
			if name == word || path == word || d.Name+":"+strconv.Itoa(n) == word {
				_, there := v.Node(name)
				return d, !there
			}
		}
	}
	return inventory.Node{}, false
}

// lacks says which partitions the disk does have.
func lacks(v *inventory.Inventory, word string, none error) error {
	d, _ := without(v, word)
	switch there := has(v, d); {
	case there != "":
		return fmt.Errorf("%w; %s%s", none, d.Name, strings.TrimPrefix(there, "; it"))
	case len(v.Parts(d.Name)) == 0:
		return fmt.Errorf("%w; %s has no partitions", none, d.Name)
	}
	return way.To(fmt.Errorf("%w; %s has %d partitions", none, d.Name, len(v.Parts(d.Name))), way.PartitionList(d.Name))
}

// NoTable says that the disk has none, and what may be done about it.
func NoTable(v *inventory.Inventory, n inventory.Node) error {
	a := advice.For(v, n, advice.Table)
	err := fmt.Errorf("%s: %w: %s", n.Name, ErrNoTable, a.Why)
	if a.Next.Empty() {
		return err
	}
	return way.To(err, a.Next)
}
