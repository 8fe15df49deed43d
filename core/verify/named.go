package verify

import (
	"fmt"
	"slices"
	"strings"

	"fundus/core/finding"
	"fundus/core/fs"
	"fundus/core/fstab"
	"fundus/core/inventory"
	"fundus/core/refs"
)

// named goes through what names devices beside fstab: boot menus, command lines,
// units, encrypted devices, what is resumed from.
func named(v *inventory.Inventory) (out []finding.Finding) {
	for _, r := range refs.All(v) {
		if r.Path == fstab.Path {
			continue // references looks closer
		}
		thing := fmt.Sprintf("%s:%d", r.Path, r.Line)
		spec := refs.Normal(r.Spec)
		tagged := strings.Contains(spec, "=") && !strings.HasPrefix(spec, "/")
		unstable := unstable().MatchString(spec)
		switch found := r.Resolve(v); {
		case len(found) == 0 && (tagged || unstable):
			f := finding.New(finding.ReferenceNone, thing, "%s%s names no device%s", by(r), r.Spec, meant(v, r))
			if r.By == "root" && !r.Fixed {
				f.Severity = finding.Error
			}
			out = append(out, f.WithRemedy("%s", mended(r)))
		case unstable && !r.Fixed && !r.Volatile():
			out = append(out, finding.New(finding.ReferenceName, thing, "%s%s is a kernel name", by(r), r.Spec).WithRemedy("name it by %s; %s", steady(found), mended(r)))
		}
	}
	return out
}

func by(r refs.Reference) string {
	if r.By == "" {
		return ""
	}
	return r.By + ": "
}

// mended says how such a line is changed.
func mended(r refs.Reference) string {
	switch {
	case r.Fixed:
		return "this boot has it; look where the boot loader takes it from"
	case r.Writer != "":
		return "have it written anew by " + r.Writer
	}
	return "edit the line"
}

// meant guesses which device a stale name stands for: the only swap area, or the
// device of the running root.
func meant(v *inventory.Inventory, r refs.Reference) string {
	var likely []inventory.Node
	for _, n := range v.Nodes {
		c, ok := n.Content()
		root := slices.ContainsFunc(v.UsesOf(n.Name), func(u inventory.Use) bool { return u.Where == "/" })
		if ok && (strings.EqualFold(r.By, "resume") && c.Class == fs.Swap || r.By == "root" && root || r.Suffix == ".swap" && c.Class == fs.Swap) {
			likely = append(likely, n)
		}
	}
	if len(likely) != 1 {
		return ""
	}
	return fmt.Sprintf("; it probably means %s, which is %s", likely[0].Name, steady(likely))
}

// steady is an identifier that stays.
func steady(nodes []inventory.Node) string {
	for _, n := range nodes {
		ids := n.Identifiers()
		for _, tag := range []string{"UUID", "PARTUUID"} {
			if ids[tag] != "" {
				return tag + "=" + ids[tag]
			}
		}
	}
	return "an identifier"
}
