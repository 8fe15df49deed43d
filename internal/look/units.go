package look

import (
	"context"
	"slices"
	"strings"

	"fundus/core/finding"
	"fundus/core/inventory"
	"fundus/core/refs"
	"fundus/core/text/fstab"
	"fundus/core/text/unit"
	"fundus/core/units"
	"fundus/core/verify"
	"fundus/internal/machine"
)

// Unit is one of systemd's for a mount, an automount or swap, and what has become of it.
type Unit struct {
	units.Loaded
	Node  string // the device that it means now
	State string
	Later bool // an automount starts it
}

// The states of a unit.
const (
	UnitMounted = "mounted"
	UnitWaiting = "waits for the first access"
	UnitOn      = "on"
	UnitIdle    = "not in use"
	UnitMasked  = "masked"
)

// Units are those of the machine.
type Units struct {
	List     []Unit
	Lines    int // of fstab, of which the generator makes more at each boot
	Findings []finding.Finding
}

// UnitsOf reads the units that lie in systemd's directories; with all those too that come with
// the system.
func UnitsOf(ctx context.Context, r machine.Reader, all bool) (*Units, error) {
	v, err := r.Inventory(ctx)
	if err != nil {
		return nil, err
	}
	out := &Units{Findings: verify.Units(v)}
	for _, u := range v.Units() {
		if u.None == "" {
			out.Lines++
		}
	}
	by := v.Resolver()
	loaded := v.Loaded()
	for _, l := range loaded {
		u := Unit{Loaded: l, State: stateOf(v, l), Later: units.Before(loaded, l.Name) != nil}
		if found := by.Resolve(refs.Normal(l.What())); len(found) == 1 {
			u.Node = found[0].Name
		}
		if l.Kept() || all {
			out.List = append(out.List, u)
		}
	}
	return out, nil
}

func stateOf(v *inventory.Inventory, l units.Loaded) string {
	if l.Masked {
		return UnitMasked
	}
	where := l.Where()
	_, device := v.MountedAt(where)
	_, other := v.OtherAt(where)
	switch unit.Suffix(l.Name) {
	case ".swap":
		on := slices.ContainsFunc(v.Areas, func(a inventory.Area) bool {
			return a.Path == l.What() ||
				a.Node != "" &&
					slices.ContainsFunc(v.Resolve(refs.Normal(l.What())), func(n inventory.Node) bool { return n.Name == a.Node })
		})
		if on {
			return UnitOn
		}
	case ".automount":
		if slices.ContainsFunc(v.Others, func(u inventory.Use) bool { return u.Kind == inventory.Automount && u.Where == where }) {
			if device || other {
				return UnitMounted
			}
			return UnitWaiting
		}
	default:
		if device || other {
			return UnitMounted
		}
	}
	return UnitIdle
}

// Type is what the unit is: mount, automount or swap.
func (u Unit) Type() string { return strings.TrimPrefix(unit.Suffix(u.Name), ".") }

// Boot is how the boot depends on the unit, in words: later is what an automount starts.
func (u Unit) Boot() string {
	switch u.Tie() {
	case fstab.Required:
		return "required"
	case fstab.Wanted:
		return "wanted"
	}
	if u.Later {
		return "later"
	}
	return "no"
}
