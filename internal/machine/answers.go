package machine

import (
	"maps"
	"slices"
	"strings"

	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/mountopt"
	"fundus/core/text/fstab"
)

// AskAbout has the running kernel judge the options of a mount or a remount, where it can be
// asked, before the rules do. The inventory is the caller's own.
func AskAbout(v *inventory.Inventory, r Reader, a Action) {
	switch options := fstab.Split(a.Options); a.Verb {
	case Mount:
		c, _ := nodeOf(v, a.Device).Content()
		ask(v, r, a.MountType(c), options)
	case Remount:
		u, _ := v.MountedAt(a.Where)
		ask(v, r, u.Kind, options)
	}
}

// AskAboutLines has the running kernel judge the options of every line of fstab that names
// one device.
func AskAboutLines(v *inventory.Inventory, r Reader) {
	if v.Machine.Root != "" { // another system, which boots a kernel of its own
		return
	}
	by := v.Resolver()
	for _, u := range v.Units() {
		nodes := by.Resolve(u.Entry.Spec)
		if len(nodes) != 1 || u.Entry.IsSwap() {
			continue
		}
		c, _ := nodes[0].Content()
		typ := Action{UseArgs: UseArgs{Kind: u.Entry.Type}}.MountType(c)
		if strings.Contains(typ, ",") {
			typ = c.MountType()
		}
		ask(v, r, typ, u.Entry.Options)
	}
}

func ask(v *inventory.Inventory, r Reader, typ string, options []string) {
	s := kind.Options(typ).Sort(options)
	asked := slices.Concat(s.Superblock, s.Own)
	if typ == "" || len(asked) == 0 {
		return
	}
	answers := TryOptions(r, typ, asked)
	if answers == nil {
		return
	}
	all := maps.Clone(v.Answers)
	if all == nil {
		all = map[string]mountopt.Answers{}
	}
	joined := mountopt.Answers{}
	maps.Copy(joined, all[typ])
	maps.Copy(joined, answers)
	all[typ] = joined
	v.Answers = all
}
