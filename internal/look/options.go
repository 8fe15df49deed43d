package look

import (
	"slices"

	"fundus/core/kind"
	"fundus/core/mountopt"
)

// MountOption is one mount option, with how it is written.
type MountOption struct {
	mountopt.Option
	Takes string
}

// MountOptions are the options of one type, in groups by where they go.
type MountOptions struct {
	Type   string // "" for those of every mount
	Groups []OptionGroup
}

// OptionGroup is the options that go to one place.
type OptionGroup struct {
	Title   string
	Options []MountOption
}

// MountOptionsOf lists a type's own options; for "" those of every mount and of every line.
func MountOptionsOf(typ string) (out MountOptions, known bool) {
	t := kind.Options(typ)
	out.Type = typ
	for _, g := range []struct {
		to    mountopt.To
		title string
	}{
		{mountopt.Own, "its own"}, {mountopt.Superblock, "of the file system, at every place where it is mounted"},
		{mountopt.Attribute, "of this mount alone"}, {mountopt.Boot, "for systemd, in fstab"}, {mountopt.Rights, "who may mount it"},
		{mountopt.Program, "for whoever mounts"}, {mountopt.Propagation, "what becomes of mounts below it elsewhere"},
	} {
		if (typ != "") != (g.to == mountopt.Own) {
			continue
		}
		group := OptionGroup{Title: g.title}
		for _, o := range t.Rows {
			if o.To == g.to {
				group.Options = append(group.Options, MountOption{o, o.Takes()})
			}
		}
		out.Groups = append(out.Groups, group)
	}
	return out, typ == "" || slices.Contains(kind.MountTypes(), typ)
}
