package machine

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"fundus/core/inventory"
	"fundus/core/memory"
	"fundus/core/way"
)

// GiveUp is the action that gives an area of swap up which is on, with what brings it back as
// it was: its priority is the kernel's word, what is told to the disk its line's. It is false
// where the device is not swapped on. Refused is one for whose pages there is no room.
func GiveUp(v *inventory.Inventory, n inventory.Node) (a Action, is bool, err error) {
	i := slices.IndexFunc(v.Areas, func(a inventory.Area) bool { return a.Node == n.Name })
	if i < 0 {
		return a, false, nil
	}
	area := v.Areas[i]
	if r := roomFor(v, Action{Device: n.Name}); r != nil {
		return a, true, r
	}
	var options []string
	if area.Priority >= 0 {
		options = append(options, fmt.Sprintf("pri=%d", area.Priority))
	}
	by := v.Resolver()
	for _, u := range v.Units() {
		if u.Entry.IsSwap() && slices.ContainsFunc(by.Resolve(u.Entry.Spec), func(o inventory.Node) bool { return o.Name == n.Name }) {
			options = append(options, slices.DeleteFunc(slices.Clone(u.Entry.Options), func(o string) bool { return !strings.HasPrefix(o, "discard") })...)
		}
	}
	return Action{Verb: SwapOff, Device: n.Name, UseArgs: UseArgs{Options: strings.Join(options, ",")}}, true, nil
}

// roomFor says why an area that is on cannot be given up: that of a device, or that of a file. nil
// where it can, or where none is on.
func roomFor(v *inventory.Inventory, a Action) *Refusal {
	i := slices.IndexFunc(v.Areas, func(o inventory.Area) bool {
		return a.Device != "" && o.Node == a.Device || a.Device == "" && o.Path == a.Where
	})
	if i < 0 {
		return nil
	}
	sum := memory.GiveUp(v.Memory, v.Areas, v.Areas[i].Path)
	if sum.Fits() {
		return nil
	}
	return &Refusal{
		Rule:  RuleMemory,
		Thing: cmp.Or(a.Device, a.Where),
		Text:  sum.String() + ": the kernel would kill programs to free memory",
		Next:  way.SwapList(),
	}
}
