package machine

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/text/fstab"
)

// verb is all that is known of a verb but how the running system does it, which is
// package live's. A new verb is a row here, a case there and a row of the conformance
// test.
type verb struct {
	words   func(a Action) string
	inverse Verb                                            // "" where nothing takes it back
	refuse  func(v *inventory.Inventory, a Action) *Refusal // nil: no rule is against it
	holds   func(v *inventory.Inventory, a Action) bool     // nil: that cannot be seen, it is done again
	effect  func(v *inventory.Inventory, a Action)          // in plain data; nil: none that would be seen
	gives   Gives
	once    bool // once begun it counts as done: nobody can see whether it was
	reads   bool // whether it holds is seen in what lies on the device
}

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

// Reads reports whether what lies on the device says if the action holds: a look at the
// kernel's lists alone does not.
func (a Action) Reads() bool { return verbs()[a.Verb].reads }

func verbs() map[Verb]verb {
	list := verbsOfSystem()
	maps.Copy(list, verbsOfContent())
	maps.Copy(list, verbsOfMounts())
	return list
}

// verbsOfContent change what lies on a device, not the running system alone.
func verbsOfContent() map[Verb]verb {
	return map[Verb]verb{
		Discard: {
			words: func(a Action) string {
				return fmt.Sprintf("discard %v of %s that nothing uses", a.bytes(), a.Node)
			},
			refuse: checkDiscard, gives: GivesAll, once: true,
		},
		Relabel: {
			words:   func(a Action) string { return fmt.Sprintf("label %s %q", a.Node, a.Label) },
			inverse: Relabel, refuse: checkRelabel, effect: relabelled, gives: GivesAll, reads: true,
			holds: func(v *inventory.Inventory, a Action) bool {
				c, ok := nodeOf(v, a.Node).Content()
				return ok && c.Label == a.Label
			},
		},
		Identify: {
			words:   func(a Action) string { return fmt.Sprintf("give %s the identifier %s", a.Node, a.ID) },
			inverse: Identify, refuse: checkIdentify, effect: identified, gives: GivesAll, reads: true,
			holds: func(v *inventory.Inventory, a Action) bool {
				c, ok := nodeOf(v, a.Node).Content()
				return ok && c.UUID == a.ID
			},
		},
		Grow: {
			words: func(a Action) string {
				return fmt.Sprintf("have the kernel give the %s on %s %v", a.Kind, a.Node, a.Size)
			},
			refuse: checkGrow, effect: grown, gives: GivesAll, reads: true,
			holds: func(v *inventory.Inventory, a Action) bool {
				c, ok := nodeOf(v, a.Node).Content()
				return ok && c.Size >= a.Size
			},
		},
	}
}

// verbsOfMounts are about the tree of mounts.
func verbsOfMounts() map[Verb]verb {
	return map[Verb]verb{
		Mount: {
			words:   func(a Action) string { return fmt.Sprintf("mount %s at %s", a.Node, a.Where) },
			inverse: Unmount, refuse: checkMount, effect: mounted, gives: GivesAll,
			holds: func(v *inventory.Inventory, a Action) bool {
				use, there := v.MountedAt(a.Where)
				return there && use.Node == a.Node
			},
		},
		Bind: {
			words:   func(a Action) string { return fmt.Sprintf("bind %s at %s", a.From, a.Where) },
			inverse: Unmount, refuse: checkBind,
			holds: func(v *inventory.Inventory, a Action) bool {
				use, there := v.MountedAt(a.Where)
				return there && use.Node == a.Node
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
			words:   func(a Action) string { return fmt.Sprintf("unmount %s", a.Where) },
			inverse: Mount, refuse: checkUnmount, gives: GivesAll,
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
			inverse: Remount, refuse: checkRemount, effect: remounted,
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
			words:   func(a Action) string { return fmt.Sprintf("tell the kernel of partition %d on %s", a.Number, a.Disk) },
			inverse: RemovePartition, holds: knows, effect: tell,
		},
		RemovePartition: {
			words: func(a Action) string {
				return fmt.Sprintf("make the kernel forget partition %d on %s", a.Number, a.Disk)
			},
			inverse: AddPartition, refuse: checkForget, holds: not(knows), effect: tell, gives: GivesPartitions,
		},
		ResizePartition: {
			words: func(a Action) string {
				return fmt.Sprintf("tell the kernel that partition %d on %s has %v", a.Number, a.Disk, a.Size)
			},
			inverse: ResizePartition, effect: tell,
			holds: func(v *inventory.Inventory, a Action) bool {
				return slices.ContainsFunc(nodeOf(v, a.Disk).Kernel, func(p inventory.KernelPart) bool { return p.Number == a.Number && p.Size == a.Size })
			},
		},
		ReadTable: {
			words:  func(a Action) string { return fmt.Sprintf("have the kernel read the table of %s", a.Disk) },
			refuse: checkReadTable, effect: readTable, gives: GivesPartitions,
		},
		ReadSize: {
			words: func(a Action) string { return fmt.Sprintf("have the kernel ask %s for its size", a.Disk) },
		},
		ReloadUnits: {
			words:   func(Action) string { return "have systemd read fstab and its units; what is mounted stays" },
			inverse: ReloadUnits,
		},
		StartUnit: {
			words:  func(a Action) string { return fmt.Sprintf("have systemd mount %s at %s", a.From, a.Where) },
			refuse: checkStart, inverse: Unmount,
			holds: func(v *inventory.Inventory, a Action) bool { _, there := v.OtherAt(a.Where); return there },
			effect: func(v *inventory.Inventory, a Action) {
				v.Others = append(slices.Clone(v.Others), inventory.Use{How: inventory.Mounted, Where: a.Where, Kind: a.Kind, Source: a.From, Options: a.Options})
			},
		},
		Start: {
			words:   func(a Action) string { return fmt.Sprintf("have systemd start %s", a.Unit) },
			inverse: Stop, refuse: checkNamed, holds: runs, effect: started,
		},
		Stop: {
			words:   func(a Action) string { return fmt.Sprintf("have systemd stop %s", a.Unit) },
			inverse: Start, refuse: checkNamed, holds: not(runs), effect: stopped,
		},
		SwapOn: {
			words:   func(a Action) string { return fmt.Sprintf("use %s as swap", cmp.Or(a.Node, a.Where)) },
			inverse: SwapOff, refuse: checkSwap, holds: swaps, gives: GivesAll,
			effect: func(v *inventory.Inventory, a Action) {
				if a.Node == "" {
					v.Areas = append(slices.Clone(v.Areas), inventory.Area{Path: a.Where, File: true, Priority: SwappedOn(a).Priority})
					return
				}
				v.Uses = append(slices.Clone(v.Uses), SwappedOn(a))
				n := nodeOf(v, a.Node)
				c, _ := n.Content()
				v.Areas = append(slices.Clone(v.Areas), inventory.Area{Path: n.Path, Node: a.Node, Size: c.Size - c.BlockSize, Priority: SwappedOn(a).Priority})
			},
		},
		SwapOff: {
			words:   func(a Action) string { return fmt.Sprintf("stop using %s as swap", cmp.Or(a.Node, a.Where)) },
			inverse: SwapOn, refuse: checkSwap, holds: not(swaps), gives: GivesAll,
			effect: func(v *inventory.Inventory, a Action) {
				v.Areas = slices.DeleteFunc(slices.Clone(v.Areas), func(o inventory.Area) bool { return o.Path == a.Where || a.Node != "" && o.Node == a.Node })
				drop(v, func(u inventory.Use) bool { return u.How == inventory.SwapOn && u.Node == a.Node })
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
	known := verbs()[a.Verb]
	if a.Verb = known.inverse; a.Verb == Mount && a.From != "" {
		a.Verb = Bind
		if a.Node == "" {
			a.Verb = StartUnit
		}
	}
	switch a.Verb {
	case ResizePartition:
		a.Size, a.Was = a.Was, a.Size
	case Remount:
		a.Options, a.Before = a.Before, a.Options
	case Relabel:
		a.Label, a.Former = a.Former, a.Label
	case Identify:
		a.ID, a.Before = a.Before, a.ID
	}
	return a, a.Verb != ""
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

// Lasts reports whether what the action brings about lies on the device, and not in the
// running system alone, which forgets it at the next boot.
func (a Action) Lasts() bool { return a.Verb == Relabel || a.Verb == Identify || a.Verb == Grow }

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
	return slices.Contains(nodeOf(v, a.Disk).Kernel, inventory.KernelPart{Number: a.Number, Start: a.Start, Size: a.Size})
}

func swaps(v *inventory.Inventory, a Action) bool {
	if a.Node == "" {
		return slices.ContainsFunc(v.Areas, func(o inventory.Area) bool { return o.Path == a.Where })
	}
	return slices.ContainsFunc(v.Uses, func(u inventory.Use) bool { return u.How == inventory.SwapOn && u.Node == a.Node })
}
