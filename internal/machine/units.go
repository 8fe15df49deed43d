package machine

import (
	"slices"
	"strings"

	"fundus/core/inventory"
	"fundus/core/text/fstab"
	"fundus/core/text/unit"
	"fundus/core/way"
)

// checkNamed refuses to start or stop a unit where no systemd runs.
func checkNamed(v *inventory.Inventory, a Action) *Refusal {
	if !v.Machine.Systemd {
		return refuse(RuleNoSystemd, a.Unit, way.None(), "no systemd runs here that could do it")
	}
	return nil
}

// runs reports whether what the unit brings about is there.
func runs(v *inventory.Inventory, a Action) bool {
	switch unit.Suffix(a.Unit) {
	case ".automount":
		return slices.ContainsFunc(v.Others, func(u inventory.Use) bool { return u.Kind == inventory.Automount && u.Where == a.Where })
	case ".swap":
		return slices.ContainsFunc(v.Areas, func(o inventory.Area) bool { return o.Node == a.Device && a.Device != "" || o.Path == a.From })
	}
	_, device := v.MountedAt(a.Where)
	_, other := v.OtherAt(a.Where)
	return device || other
}

func started(v *inventory.Inventory, a Action) {
	switch unit.Suffix(a.Unit) {
	case ".automount":
		v.Others = append(slices.Clone(v.Others), inventory.Use{
			How:    inventory.Mounted,
			Where:  a.Where,
			Kind:   inventory.Automount,
			Source: "systemd-1",
		})
	case ".swap":
		if a.Device != "" {
			v.Uses = append(slices.Clone(v.Uses), SwappedOn(a))
		}
		v.Areas = append(slices.Clone(v.Areas), inventory.Area{
			Path:     a.From,
			Node:     a.Device,
			File:     a.Device == "",
			Priority: SwappedOn(a).Priority,
		})
	default:
		if a.Device != "" {
			mounted(v, a)
			return
		}
		mountedOther(v, a)
	}
}

// mountedOther is the effect of a mount of no device.
func mountedOther(v *inventory.Inventory, a Action) {
	v.Others = append(slices.Clone(v.Others), inventory.Use{
		How:     inventory.Mounted,
		Where:   a.Where,
		Kind:    a.Kind,
		Source:  a.From,
		Options: a.Options,
	})
}

func stopped(v *inventory.Inventory, a Action) {
	at := func(u inventory.Use) bool { return u.Where == a.Where && u.How == inventory.Mounted }
	if unit.Suffix(a.Unit) == ".swap" {
		drop(v, func(u inventory.Use) bool { return u.How == inventory.SwapOn && u.Node == a.Device })
		v.Areas = slices.DeleteFunc(slices.Clone(v.Areas), func(o inventory.Area) bool { return o.Path == a.From || a.Device != "" && o.Node == a.Device })
		return
	}
	v.Others = slices.DeleteFunc(slices.Clone(v.Others), at)
	drop(v, at)
}

// Named is the action that has systemd start the unit of a place: of a mount point, or of swap.
func Named(name string, n inventory.Node, u fstab.Unit) Action {
	return Action{
		Verb:    Start,
		UseArgs: UseArgs{Unit: name, Where: u.Where, From: u.What, Kind: u.Entry.Type, Options: strings.Join(u.Options, ",")},
		Device:  n.Name,
	}
}
