package task

import (
	"fmt"
	"slices"
	"strings"

	"fundus/core/inventory"
	"fundus/core/memory"
	"fundus/internal/machine"
)

// GiveUp is the action that gives an area of swap up which is on, with what brings it back as
// it was: its priority is the kernel's word, what is told to the disk its line's. It is false
// where the device is not swapped on. Refused is one for whose pages there is no room.
func GiveUp(v *inventory.Inventory, n inventory.Node) (a machine.Action, is bool, err error) {
	i := slices.IndexFunc(v.Areas, func(a inventory.Area) bool { return a.Node == n.Name })
	if i < 0 {
		return a, false, nil
	}
	area := v.Areas[i]
	if sum := memory.GiveUp(v.Memory, v.Areas, area.Path); !sum.Fits() {
		return a, true, &machine.Refusal{Rule: machine.RuleMemory, Thing: n.Name, Text: sum.String() + ": the kernel would kill programs to make room", Next: "fundus swap list"}
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
	return machine.Action{Verb: machine.SwapOff, Node: n.Name, Options: strings.Join(options, ",")}, true, nil
}
