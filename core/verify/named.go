package verify

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"fundus/core/finding"
	"fundus/core/inventory"
	"fundus/core/refs"
	"fundus/core/text/fstab"
)

// named goes through what names devices beside fstab: boot menus, command lines,
// units, encrypted devices, what is resumed from.
//
// These files decide earlier than fstab: a menu that names a root which is gone ends in the
// initramfs, before any service of the machine could say why. Some are written by a program
// from others, so that the mend is said for the source.
func (k *look) named() (out []finding.Finding) {
	for _, path := range slices.Sorted(maps.Keys(k.v.Files)) {
		if problem := k.v.Files[path].Problem; problem != "" {
			out = append(out, FileUnread.New(path, "%s", problem).WithRemedy("look again as root"))
		}
	}
	remade := k.allRemade()
	for _, r := range refs.All(k.v) {
		if r.Path == fstab.Path {
			continue // references looks closer
		}
		thing := fmt.Sprintf("%s:%d", r.Path, r.Line)
		spec := refs.Normal(r.Spec)
		tagged := strings.Contains(spec, "=") && !strings.HasPrefix(spec, "/")
		unstable := unstable().MatchString(spec)
		switch found := r.Resolve(k.by); {
		case len(found) == 0 && (tagged || unstable):
			f := ReferenceNone.New(thing, "%s%s%s", by(r), noDevice(r.Spec), k.meant(r))
			if r.By == "root" && !r.Fixed {
				f.Severity = finding.Error
			}
			if again, is := remade[spec]; is {
				f = again.said(f)
			} else {
				f = f.WithRemedy("%s", mended(r))
			}
			out = append(out, f)
		// A swap area that is made anew with a random key at each boot has no identifier to
		// be named by.
		case unstable && !r.Fixed && !r.Volatile():
			out = append(out, ReferenceName.New(thing, "%s%s is a kernel name", by(r), r.Spec).WithRemedy("name it by %s; %s", steady(found), mended(r)))
		}
	}
	return out
}

// offsets holds where a file to swap on is said to begin against where those begin that are
// on. One that is made anew begins elsewhere.
func (k *look) offsets() (out []finding.Finding) {
	for _, o := range refs.Offsets(k.v) {
		var begins []string
		right := false
		for _, a := range k.v.Areas {
			on := o.Spec == "" ||
				slices.ContainsFunc(k.by.Resolve(refs.Normal(o.Spec)), func(n inventory.Node) bool { return n.Name == a.On })
			if a.First > 0 && on {
				begins = append(begins, fmt.Sprintf("%s begins at %d", a.Path, a.First))
				right = right || a.First == o.Pages
			}
		}
		if len(begins) > 0 && !right { // without one that is on nobody can say
			f := ReferenceOffset.New(fmt.Sprintf("%s:%d", o.Path, o.Line),
				"resume_offset=%d: no file to swap on begins there; %s", o.Pages, strings.Join(begins, ", "))
			out = append(out, f.WithRemedy("%s", mended(refs.Reference{Place: o.Place})))
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
		return "have it rewritten by " + r.Writer
	}
	return "edit the line"
}

// meant guesses which device a stale name stands for: the only swap area, or the
// device of the running root.
func (k *look) meant(r refs.Reference) string {
	likely := k.likely(r)
	if len(likely) != 1 {
		return ""
	}
	return fmt.Sprintf("; it probably means %s, which is %s", likely[0].Name, steady(likely))
}

func (k *look) likely(r refs.Reference) []inventory.Node {
	switch {
	case strings.EqualFold(r.By, "resume"), r.Suffix == ".swap":
		return k.swaps
	case r.By == "root":
		return k.roots
	}
	return nil
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
