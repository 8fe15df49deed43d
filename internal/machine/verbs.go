package machine

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"

	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/text/fstab"
	"fundus/core/way"
)

// verb is all that is known of a verb but how the running system does it, which is a row of package
// live's, and what a bench does beside the effect, a row of package bench's. A new verb is a row
// here, one there, and one of the conformance test.
type verb struct {
	words   func(a Action) string
	inverse func(a Action) Action                           // nil where nothing takes it back
	refuse  func(v *inventory.Inventory, a Action) *Refusal // nil: no rule is against it
	holds   func(v *inventory.Inventory, a Action) bool     // nil: that cannot be seen, it is done again
	effect  func(v *inventory.Inventory, a Action)          // in plain data; nil: none that would be seen
	dirs    func(a Action) []string                         // that have to be there; nil: none
	room    func(v *inventory.Inventory, a Action) *Refusal // why the memory takes none of what the kernel would put there; nil: it puts nothing there
	busy    func(a Action, who string) error                // the kernel's answer that somebody has it; nil: RuleBusy
	gives   Gives
	back    Back // how an undo takes it back
	once    bool // once begun it counts as done: nobody can see whether it was
	reads   bool // whether it holds is seen in what lies on the device
	lasts   bool // it lies on the device, and not in the running system alone
	tree    bool // it changes the tree of mounts, which no table and no text file shows
	listed  bool // whether it holds is seen in the kernel's list of the disk's partitions
	frees   bool // nobody uses the device, or what lies on it, afterwards
	aside   bool // it is something that the machine does for a step, and nothing that a user asked for
}

// Back is how an undo takes back what an action brought about and what holds still.
type Back string

// The ways back.
const (
	BackByItself Back = ""        // what else is taken back brings it along, or nothing does
	BackAtOnce   Back = "at once" // by its inverse, in its turn
	BackBehind   Back = "behind"  // by its inverse, once the kernel knows the partitions of before
	BackStarted  Back = "started" // by its inverse, once systemd has read the units of before
)

// Gives is what a claim on the device must let go of before the action.
type Gives string

// What a claim lets go of.
const (
	GivesNothing    Gives = ""
	GivesPartitions Gives = "partitions" // the kernel changes none that somebody has open
	GivesAll        Gives = "all"        // the kernel takes the device for itself
)

// Gives says what a claim must let go of for the action.
func (a Action) Gives() Gives { return verbs()[a.Verb].gives }

// Once reports whether the action counts as done once it has begun, since nobody can see
// how far it came.
func (a Action) Once() bool { return verbs()[a.Verb].once }

// Back says how an undo takes the action back.
func (a Action) Back() Back { return verbs()[a.Verb].back }

// Tree reports whether it changes the tree of mounts.
func (a Action) Tree() bool { return verbs()[a.Verb].tree }

// Listed reports whether the kernel's list of the disk's partitions says if the action holds.
func (a Action) Listed() bool { return verbs()[a.Verb].listed }

// Aside reports whether the action only has the system take up what other steps changed.
func (a Action) Aside() bool { return verbs()[a.Verb].aside }

// Dirs are the directories that have to be there for the action.
func (a Action) Dirs() []string {
	if dirs := verbs()[a.Verb].dirs; dirs != nil {
		return dirs(a)
	}
	return nil
}

// Frees reports whether nobody uses the device afterwards, as far as the action is about its use.
func (a Action) Frees() bool { return verbs()[a.Verb].frees }

// Room says why the memory has no room for what the kernel would have to put there; nil where it
// has, or where the action puts nothing there.
func Room(v *inventory.Inventory, a Action) error {
	if room := verbs()[a.Verb].room; room != nil {
		if r := room(v, a); r != nil {
			return r
		}
	}
	return nil
}

// Busy is what comes of the kernel's answer that somebody has what the action is about.
func (a Action) Busy(who string) error {
	if busy := verbs()[a.Verb].busy; busy != nil {
		return busy(a, who)
	}
	return occupied(RuleBusy)(a, who)
}

// occupied refuses by the rule.
func occupied(rule Rule) func(a Action, who string) error {
	return func(a Action, who string) error {
		return refuse(rule, a.Device+a.Where, way.ByHand("close what is open there, then run the command again"), "cannot %v: %s", a, who)
	}
}

// atNextBoot is what the kernel takes up when it reads the table anew.
func atNextBoot(a Action, _ string) error {
	return &LaterError{Action: a, Why: "the kernel still has another partition there"}
}

// as is the same action with another verb.
func as(v Verb) func(a Action) Action {
	return func(a Action) Action { a.Verb = v; return a }
}

// Reads reports whether what lies on the device says if the action holds: a look at the
// kernel's lists alone does not.
func (a Action) Reads() bool { return verbs()[a.Verb].reads }

var verbs = sync.OnceValue(func() map[Verb]verb {
	list := map[Verb]verb{}
	for _, of := range []map[Verb]verb{
		verbsOfSystem(),
		verbsOfContent(),
		verbsOfMounts(),
		verbsOfSwap(),
		verbsOfSystemd(),
	} {
		maps.Copy(list, of)
	}
	return list
})

// verbsOfContent change what lies on a device, not the running system alone.
func verbsOfContent() map[Verb]verb {
	return map[Verb]verb{
		Discard: {
			words: func(a Action) string {
				return fmt.Sprintf("discard %v of %s that nothing uses", a.bytes(), a.Device)
			},
			refuse: checkDiscard, gives: GivesAll, once: true,
		},
		Relabel: {
			words:   func(a Action) string { return fmt.Sprintf("label %s %q", a.Device, a.Label) },
			inverse: func(a Action) Action { a.Label, a.FormerLabel = a.FormerLabel, a.Label; return a },
			refuse:  checkRelabel, effect: relabelled, gives: GivesAll, reads: true, lasts: true,
			holds: func(v *inventory.Inventory, a Action) bool {
				c, ok := nodeOf(v, a.Device).Content()
				return ok && c.Label == a.Label
			},
		},
		Identify: {
			words:   func(a Action) string { return fmt.Sprintf("give %s the identifier %s", a.Device, a.ID) },
			inverse: func(a Action) Action { a.ID, a.FormerID = a.FormerID, a.ID; return a },
			refuse:  checkIdentify, effect: identified, gives: GivesAll, reads: true, lasts: true,
			holds: func(v *inventory.Inventory, a Action) bool {
				c, ok := nodeOf(v, a.Device).Content()
				return ok && c.UUID == a.ID
			},
		},
		Grow: {
			words: func(a Action) string {
				return fmt.Sprintf("have the kernel give the %s on %s %v", a.Kind, a.Device, a.Length)
			},
			refuse: checkGrow, effect: grown, gives: GivesAll, reads: true, lasts: true,
			holds: func(v *inventory.Inventory, a Action) bool {
				c, ok := nodeOf(v, a.Device).Content()
				return ok && c.Size >= a.Length
			},
		},
	}
}

// verbsOfMounts are about the tree of mounts.
func verbsOfMounts() map[Verb]verb {
	return map[Verb]verb{
		Mount: {
			words:   func(a Action) string { return fmt.Sprintf("mount %s at %s", a.Device, a.Where) },
			inverse: as(Unmount), refuse: checkMount, effect: mounted, gives: GivesAll, back: BackAtOnce, tree: true,
			dirs: func(a Action) []string { return []string{a.Where} },
			holds: func(v *inventory.Inventory, a Action) bool {
				use, there := v.MountedAt(a.Where)
				return there && use.Node == a.Device
			},
		},
		Bind: {
			words:   func(a Action) string { return fmt.Sprintf("bind %s at %s", a.From, a.Where) },
			inverse: as(Unmount), refuse: checkBind, back: BackAtOnce, tree: true,
			dirs: func(a Action) []string { return []string{a.From, a.Where} },
			holds: func(v *inventory.Inventory, a Action) bool {
				use, there := v.MountedAt(a.Where)
				return there && use.Node == a.Device
			},
			effect: func(v *inventory.Inventory, a Action) {
				u, ok := v.MountOf(a.From)
				if !ok {
					return
				}
				if a.From != u.Where {
					u.Part = path.Join("/", u.Part, strings.TrimPrefix(a.From, strings.TrimSuffix(u.Where, "/")))
				}
				options := fstab.Split(a.Options)
				u.Where, u.ReadOnly = a.Where, u.ReadOnly || slices.Contains(options, "ro")
				u.Options = strings.Join(slices.DeleteFunc(options, func(o string) bool { return o == "bind" || o == "rbind" }), ",")
				v.Uses = append(slices.Clone(v.Uses), u)
			},
		},
		Unmount: {
			words:  func(a Action) string { return fmt.Sprintf("unmount %s", a.Where) },
			refuse: checkUnmount, gives: GivesAll, back: BackAtOnce, tree: true, frees: true,
			inverse: func(a Action) Action {
				switch {
				case a.From == "":
					return as(Mount)(a)
				case a.Device == "":
					return as(StartUnit)(a)
				}
				return as(Bind)(a)
			},
			busy: func(a Action, who string) error {
				return refuse(RuleBusy, a.Where, way.ByHand("close what is open there; --wait=SECONDS waits for that, --detach does not"), "it is busy: %s", who)
			},
			holds: func(v *inventory.Inventory, a Action) bool {
				_, there := v.MountedAt(a.Where)
				_, other := v.OtherAt(a.Where)
				return !there && !other
			},
			effect: func(v *inventory.Inventory, a Action) {
				if _, other := v.OtherAt(a.Where); other {
					v.Others = slices.DeleteFunc(slices.Clone(v.Others), func(u inventory.Use) bool { return u.Where == a.Where })
					return
				}
				drop(v, func(u inventory.Use) bool { return u.How == inventory.Mounted && u.Where == a.Where })
			},
		},
		Remount: {
			words:   func(a Action) string { return fmt.Sprintf("give %s the options %s", a.Where, a.Options) },
			inverse: func(a Action) Action { a.Options, a.FormerOptions = a.FormerOptions, a.Options; return a },
			refuse:  checkRemount, effect: remounted, back: BackAtOnce,
			holds: func(v *inventory.Inventory, a Action) bool {
				u, ok := v.MountedAt(a.Where)
				return ok && HasAll(u, a.Options)
			},
		},
	}
}

func verbsOfSystem() map[Verb]verb {
	return map[Verb]verb{
		AddPartition: {
			words:   func(a Action) string { return fmt.Sprintf("tell the kernel of partition %d on %s", a.Number, a.Device) },
			inverse: as(RemovePartition), holds: knows, effect: tell, busy: atNextBoot, listed: true,
		},
		RemovePartition: {
			words: func(a Action) string {
				return fmt.Sprintf("make the kernel forget partition %d on %s", a.Number, a.Device)
			},
			inverse: as(AddPartition), refuse: checkForget, holds: not(knows), effect: tell, gives: GivesPartitions,
			busy: occupied(RulePartitionUse), listed: true,
		},
		ResizePartition: {
			words: func(a Action) string {
				return fmt.Sprintf("tell the kernel that partition %d on %s has %v", a.Number, a.Device, a.Size)
			},
			inverse: func(a Action) Action { a.Size, a.Was = a.Was, a.Size; return a },
			effect:  tell, busy: atNextBoot, listed: true,
			holds: func(v *inventory.Inventory, a Action) bool {
				return slices.ContainsFunc(nodeOf(v, a.Device).Kernel, func(p inventory.KernelPart) bool { return p.Number == a.Number && p.Size == a.Size })
			},
		},
		ReadTable: {
			words:  func(a Action) string { return fmt.Sprintf("have the kernel read the table of %s", a.Device) },
			refuse: checkReadTable, effect: readTable, gives: GivesPartitions, busy: occupied(RuleTableInUse), listed: true,
		},
		ReadSize: {
			words:  func(a Action) string { return fmt.Sprintf("have the kernel ask %s for its size", a.Device) },
			listed: true,
		},
	}
}

// verbsOfSystemd are what systemd does.
func verbsOfSystemd() map[Verb]verb {
	return map[Verb]verb{
		ReloadUnits: {
			words:   func(Action) string { return "have systemd read fstab and its units; what is mounted stays" },
			inverse: as(ReloadUnits), aside: true,
		},
		StartUnit: {
			words:  func(a Action) string { return fmt.Sprintf("have systemd mount %s at %s", a.From, a.Where) },
			refuse: checkStart, inverse: as(Unmount), back: BackAtOnce,
			holds:  func(v *inventory.Inventory, a Action) bool { _, there := v.OtherAt(a.Where); return there },
			effect: mountedOther,
		},
		Start: {
			words:   func(a Action) string { return fmt.Sprintf("have systemd start %s", a.Unit) },
			inverse: as(Stop), refuse: checkNamed, holds: runs, effect: started, back: BackAtOnce,
		},
		Stop: {
			words:   func(a Action) string { return fmt.Sprintf("have systemd stop %s", a.Unit) },
			inverse: as(Start), refuse: checkNamed, holds: not(runs), effect: stopped, back: BackStarted, room: roomFor, frees: true,
		},
	}
}

// verbsOfSwap are about areas of swap, on devices and in files.
func verbsOfSwap() map[Verb]verb {
	return map[Verb]verb{
		SwapOn: {
			words:   func(a Action) string { return fmt.Sprintf("use %s as swap", cmp.Or(a.Device, a.Where)) },
			inverse: as(SwapOff), refuse: checkSwap, holds: swaps, gives: GivesAll, back: BackAtOnce,
			effect: func(v *inventory.Inventory, a Action) {
				if a.Device == "" {
					v.Areas = append(slices.Clone(v.Areas), inventory.Area{Path: a.Where, File: true, Priority: SwappedOn(a).Priority})
					return
				}
				v.Uses = append(slices.Clone(v.Uses), SwappedOn(a))
				n := nodeOf(v, a.Device)
				c, _ := n.Content()
				v.Areas = append(slices.Clone(v.Areas), inventory.Area{
					Path:     n.Path,
					Node:     a.Device,
					Size:     c.Size - c.BlockSize,
					Priority: SwappedOn(a).Priority,
				})
			},
		},
		SwapOff: {
			words:   func(a Action) string { return fmt.Sprintf("stop using %s as swap", cmp.Or(a.Device, a.Where)) },
			inverse: as(SwapOn), refuse: checkSwap, holds: not(swaps), gives: GivesAll, back: BackBehind, room: roomFor, frees: true,
			effect: func(v *inventory.Inventory, a Action) {
				v.Areas = slices.DeleteFunc(slices.Clone(v.Areas), func(o inventory.Area) bool { return o.Path == a.Where || a.Device != "" && o.Node == a.Device })
				drop(v, func(u inventory.Use) bool { return u.How == inventory.SwapOn && u.Node == a.Device })
			},
		},
	}
}

// String says the action in words.
func (a Action) String() string {
	if known, ok := verbs()[a.Verb]; ok {
		return known.words(a)
	}
	return fmt.Sprintf("%q, which this release does not know", string(a.Verb))
}

// Inverse is the action that takes this one back, if there is one.
func (a Action) Inverse() (Action, bool) {
	if inverse := verbs()[a.Verb].inverse; inverse != nil {
		return inverse(a), true
	}
	return a, false
}

// CheckAction gives the first rule that the action breaks, or nil.
func CheckAction(v *inventory.Inventory, a Action) error {
	if known := verbs()[a.Verb]; known.refuse != nil {
		if r := known.refuse(v, a); r != nil {
			return r
		}
	}
	return nil
}

// Ruled reports whether a rule may be against the action, for which the machine is looked at.
func (a Action) Ruled() bool { return verbs()[a.Verb].refuse != nil }

// Lasts reports whether what the action brings about lies on the device, and not in the
// running system alone, which forgets it at the next boot.
func (a Action) Lasts() bool { return verbs()[a.Verb].lasts }

// Visible reports whether it can be seen that the action was carried out.
func (a Action) Visible() bool { return verbs()[a.Verb].holds != nil }

// Holds reports whether what the action brings about is so already, by the uses and the
// kernel's partitions of the inventory.
func Holds(v *inventory.Inventory, a Action) bool {
	known := verbs()[a.Verb]
	return known.holds != nil && known.holds(v, a)
}

// Effect brings about in plain data what the action does. The inventory is the
// caller's own; lists that others may hold are not written to.
func Effect(v *inventory.Inventory, a Action) {
	if known := verbs()[a.Verb]; known.effect != nil {
		known.effect(v, a)
	}
}

// bytes is how many the spans have.
func (a Action) bytes() (sum quantity.Bytes) {
	for _, s := range a.Spans {
		sum += quantity.Bytes(s.Count)
	}
	return sum
}

func not(holds func(*inventory.Inventory, Action) bool) func(*inventory.Inventory, Action) bool {
	return func(v *inventory.Inventory, a Action) bool { return !holds(v, a) }
}

func knows(v *inventory.Inventory, a Action) bool {
	return slices.Contains(nodeOf(v, a.Device).Kernel, inventory.KernelPart{Number: a.Number, Start: a.Start, Size: a.Size})
}

func swaps(v *inventory.Inventory, a Action) bool {
	if a.Device == "" {
		return slices.ContainsFunc(v.Areas, func(o inventory.Area) bool { return o.Path == a.Where })
	}
	return slices.ContainsFunc(v.Uses, func(u inventory.Use) bool { return u.How == inventory.SwapOn && u.Node == a.Device })
}
