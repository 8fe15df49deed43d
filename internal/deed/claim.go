package deed

import (
	"slices"

	"fundus/core/inventory"
	"fundus/internal/draft"
	"fundus/internal/machine"
)

// claimable are the targets of the steps, in the order in which they are carried out, that can be
// claimed now. Left out is what the rules refuse now and let pass once the steps before its own
// have been carried out: a file system that the deed itself unmounts first, an area of swap that it
// turns off. Until then the kernel has it; what gives it up lets go of the claim, and the next step
// that writes claims what can be claimed then. What the rules refuse then too stays in the list,
// and is refused with its reason.
func claimable(v *inventory.Inventory, steps []draft.Step, names map[string]string, forward bool) (now []machine.Target) {
	then := *v
	for _, s := range steps {
		c := carrierOf(s)
		for _, t := range c.targets(s) {
			t.Device = nameOf(names, t.Device)
			if machine.CheckClaim(v, t) == nil || machine.CheckClaim(&then, t) != nil {
				now = append(now, t)
			}
		}
		c.brings(&then, s, names, forward)
	}
	return now
}

// ahead are the steps that are still to be carried out, with the given one: to the end, or back to
// the first.
func (d *Deed) ahead(step int, forward bool) []draft.Step {
	if forward {
		return d.Steps[step:]
	}
	back := slices.Clone(d.Steps[:step+1])
	slices.Reverse(back)
	return back
}

// nameOf is what a device is called now, by the names of before.
func nameOf(names map[string]string, was string) string {
	if now, ok := names[was]; ok {
		return now
	}
	return was
}
