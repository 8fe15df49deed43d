package mounts

import (
	"fmt"
	"os"
	"slices"
	"strings"

	"fundus/core/advice"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/mountopt"
	"fundus/core/quantity"
	"fundus/core/text/fstab"
)

// Ask is a mount, or an area of swap, as it is asked for.
type Ask struct {
	On      inventory.Node
	Type    string // "" and auto: what lies there
	Options []string
	Answers map[string]mountopt.Answers // of the kernel, by type
	Beside  []Mounted                   // what is mounted by then
	Names   map[string]bool             // users and groups, "uid=curator", and whether the machine knows them
}

// Mounted is what is mounted already.
type Mounted struct {
	On       inventory.Node
	Where    string
	ReadOnly bool
}

// Reason is what is against a mount.
type Reason string

// The reasons.
const (
	Unread   Reason = "unread"   // the device cannot be read
	Nothing  Reason = "nothing"  // nothing that is mounted lies there
	Fenced   Reason = "fenced"   // a deed was cut short there
	Kind     Reason = "kind"     // something else lies there
	Damaged  Reason = "damaged"  // the kernel finds damage before it has mounted
	Features Reason = "features" // that are not known
	TooLarge Reason = "large"    // it is larger than its device
	Remount  Reason = "remount"  // nothing is mounted yet
	Option   Reason = "option"   // one that the kernel refuses
	Busy     Reason = "busy"     // it is mounted in a way that excludes this one
	Twin     Reason = "twin"     // another one with its identifier is mounted
)

// Obstacle is why a mount does not come; Unsure: why nobody can tell whether it does.
type Obstacle struct {
	Reason Reason
	Says   string
	Unsure bool
}

// Judge says what is against the mount; nil: nothing is.
func (a Ask) Judge() *Obstacle {
	if e, value := kind.AtOtherOf(a.Type, a.Options); e != nil && !a.swap() {
		if o := a.options(); o != nil && !o.Unsure {
			return o
		}
		return &Obstacle{
			Reason: Damaged,
			Says:   fmt.Sprintf("%s=%s names another superblock, and what is there is not looked at", e.Option, value),
			Unsure: true,
		}
	}
	if o := a.content(); o != nil {
		return o
	}
	if slices.Contains(a.Options, "remount") && !a.swap() {
		return &Obstacle{Reason: Remount, Says: "remount asks for other options of what is mounted there, and nothing is"}
	}
	if o := a.options(); o != nil {
		return o
	}
	return a.Excluded()
}

func (a Ask) swap() bool { return a.Type == fstab.Swap }

// ReadOnly reports whether the mount is for reading alone.
func (a Ask) ReadOnly() bool {
	e := fstab.Entry{Options: a.Options}
	return e.On("ro", "rw") || kind.OnlyRead(a.As())
}

// untouched reports whether the mount leaves the journal alone.
func (a Ask) untouched() bool {
	c, _ := a.On.Content()
	k, _ := kind.Of(c)
	return slices.ContainsFunc(a.Options, func(o string) bool { return o == "norecovery" || slices.Contains(k.Untouched, o) })
}

// As is the type as which the kernel mounts it.
func (a Ask) As() string {
	if c, ok := a.On.Content(); ok && (a.Type == "" || a.Type == "auto" || strings.Contains(a.Type, ",") || c.Excluding(a.Type)) {
		return c.MountType()
	}
	return a.Type
}

// content holds what lies there against what is asked for: class, kind, damage, features, size.
func (a Ask) content() *Obstacle {
	n := a.On
	c, ok := n.Content()
	no := func(r Reason, format string, args ...any) *Obstacle {
		return &Obstacle{Reason: r, Says: fmt.Sprintf(format, args...)}
	}
	wants, typ := "file system", a.Type
	if a.swap() {
		wants = "swap area"
	}
	class := map[bool]fs.Class{false: fs.FileSystem, true: fs.Swap}[a.swap()]
	switch {
	case n.Problem != "" && !ok:
		return no(Unread, "%s", n.Problem)
	case !ok && len(n.Contents) > 1:
		return no(Nothing, "it carries several signatures: %s", advice.Holds(n))
	case !ok:
		return no(Nothing, "it holds no %s", wants)
	case c.Class == fs.Fence:
		return no(Fenced, "it is fenced by a deed that was cut short (fundus recover)")
	case c.Class != class && (typ == "" || typ == "auto"):
		return no(Kind, "it holds %s, and no %s", c.Kind, wants)
	case c.Class != class || !c.MountsAs(typ):
		return no(Kind, "it holds %s, not %s", c.Kind, typ)
	case a.swap() && WrongPage(c) != "":
		return no(Kind, "%s", WrongPage(c))
	case c.State == fs.Damaged:
		return no(Damaged, "its superblock is damaged")
	case c.Size > n.Size:
		return no(TooLarge, "the file system has %d bytes, the device only %d", c.Size, n.Size)
	case c.AtMount.Any != "":
		return no(Damaged, "it is damaged: %s", c.AtMount.Any)
	case c.AtMount.Journal != "" && !a.untouched():
		return no(Damaged, "it is damaged: %s", c.AtMount.Journal)
	case c.AtMount.Writing != "" && !a.ReadOnly():
		return no(Damaged, "it is damaged, and the kernel mounts it read-only: %s", c.AtMount.Writing)
	case len(c.Unknown) > 0:
		return no(Features, "it has features that are not known: %s", strings.Join(c.Unknown, ", "))
	case n.Problem != "":
		return no(Unread, "%s", n.Problem)
	}
	return nil
}

// WrongPage says why the kernel takes an area for no swap at all: it was made for pages of another
// size than its own. "" where it was not.
func WrongPage(c fs.Content) string {
	page := quantity.Bytes(os.Getpagesize())
	if c.Class != fs.Swap || c.BlockSize == 0 || c.BlockSize == page {
		return ""
	}
	return fmt.Sprintf("it was made for a kernel with pages of %v, and this one has pages of %v", c.BlockSize, page)
}

// options says for which the kernel refuses the mount, or else of which one nobody can tell.
// Of swap the kernel sees no options: they are systemd's.
func (a Ask) options() *Obstacle {
	if a.swap() {
		return nil
	}
	faults := a.Faults()
	var refused []string
	for _, f := range faults {
		if f.Trouble.Refused() {
			refused = append(refused, f.Says)
		}
	}
	if refused != nil {
		return &Obstacle{Reason: Option, Says: "the kernel refuses the mount: " + strings.Join(refused, "; ")}
	}
	for _, f := range faults {
		if f.Trouble == mountopt.Untold {
			return &Obstacle{Reason: Option, Says: f.Says, Unsure: true}
		}
	}
	return nil
}

// Memory says what is against a mount of what the kernel makes up by itself, and of whose options
// the rows are known.
func (a Ask) Memory() *Obstacle {
	if !slices.Contains(kind.MountTypes(), a.Type) {
		return nil
	}
	return a.options()
}

// Faults are all that is wrong with the options.
func (a Ask) Faults() []mountopt.Fault {
	c, _ := a.On.Content()
	typ := a.As()
	return kind.Options(typ).CheckBy(named(a.Options, a.Names), c.Has, a.Answers[typ])
}

// named are the options with a number in place of each user and group that the machine knows: the
// mount program looks names up.
func named(options []string, known map[string]bool) []string {
	out := slices.Clone(options)
	for i, o := range out {
		if known[o] {
			name, _, _ := strings.Cut(o, "=")
			out[i] = name + "=0"
		}
	}
	return out
}

// Excluded says what of all that is mounted is against the mount: one superblock is read-only or
// it is not, at all places, and of some kinds no two are mounted that have one UUID.
func (a Ask) Excluded() *Obstacle {
	if len(a.Beside) == 0 {
		return nil
	}
	c, _ := a.On.Content()
	for _, m := range a.Beside {
		o, _ := m.On.Content()
		switch {
		case m.On.Name == a.On.Name && m.ReadOnly != a.ReadOnly():
			return &Obstacle{
				Reason: Busy,
				Says: fmt.Sprintf("it is mounted at %s %s, and the kernel mounts it %s at no second place", m.Where,
					how(m.ReadOnly), how(a.ReadOnly())),
			}
		case m.On.Name != a.On.Name && c.Kind == o.Kind && c.UUID == o.UUID && alone(c) != "" && !slices.Contains(a.Options, alone(c)):
			return &Obstacle{
				Reason: Twin,
				Says: fmt.Sprintf("%s has the same UUID and is mounted at %s: the kernel mounts no second %s of one UUID without %s",
					m.On.Name, m.Where, c.Kind, alone(c)),
			}
		}
	}
	return nil
}

// alone is the option without which no two of a kind are mounted that have one UUID; "" where the
// kernel does not mind.
func alone(c fs.Content) string {
	k, _ := kind.Of(c)
	return k.Alone
}

func how(readOnly bool) string {
	if readOnly {
		return "read-only"
	}
	return "for writing"
}

// Now lists what is mounted now.
func Now(v *inventory.Inventory) (out []Mounted) {
	for _, u := range v.Uses {
		if n, ok := v.Node(u.Node); ok && u.How == inventory.Mounted {
			readOnly := u.ReadOnly // what counts is the file system: one place of it may be read-only by itself
			if u.Super != "" {
				readOnly = slices.Contains(strings.Split(u.Super, ","), "ro")
			}
			out = append(out, Mounted{n, u.Where, readOnly})
		}
	}
	return out
}

// Remount says what is against giving these options to what was mounted with others.
func (a Ask) Remount(was []string) *Obstacle {
	if o := a.options(); o != nil {
		return o
	}
	c, _ := a.On.Content()
	if c.AtMount.Writing != "" && !a.ReadOnly() {
		return &Obstacle{Reason: Damaged, Says: "it is damaged, and the kernel mounts it read-only: " + c.AtMount.Writing}
	}
	t := kind.Options(a.As())
	for _, o := range a.Options {
		row, ok := t.Find(o)
		if !ok || !row.Firm {
			continue
		}
		is := row.Name + "=" + row.FirmAt // what it is without a word
		for _, w := range was {
			if mountopt.Name(w) == row.Name {
				is = w
			}
		}
		if o != is {
			return &Obstacle{
				Reason: Option,
				Says: fmt.Sprintf("%s is taken at the first mount alone, which for the root is what the kernel is told with rootflags=",
					o),
			}
		}
	}
	return nil
}
