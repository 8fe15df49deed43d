package propose

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"fundus/core/inventory"
	"fundus/core/text/fstab"
)

// Errors of names.
var (
	ErrNoName  = errors.New("it has no such identifier")
	ErrCarried = errors.New("two devices carry it")
)

// Words are the ways in which a line can name a device.
func Words() []string { return []string{"uuid", "label", "partuuid", "partlabel", "path"} }

// Named is how a line names the device, with why.
type Named struct {
	Spec, Why string
	Warning   string
}

// Name is how a new line names the node: as was asked for, else a volume by its path in
// /dev/mapper, else as is preferred, by its UUID or its PARTUUID. One that two devices carry
// is passed over, or refused where it was asked for.
func Name(v *inventory.Inventory, n inventory.Node, by, preferred string) (Named, error) {
	by = strings.ToLower(by)
	if by == "path" {
		return path(n), nil
	}
	if by == "" && n.Form == inventory.Volume && n.Alias != "" {
		return Named{Spec: "/dev/mapper/" + n.Alias, Why: "a volume keeps its name, and a snapshot has the same UUID"}, nil
	}
	tags := []string{strings.ToUpper(preferred), "UUID", "PARTUUID"}
	if by != "" {
		tags = []string{strings.ToUpper(by)}
	}
	ids := n.Identifiers()
	carried := ""
	for _, tag := range tags {
		if ids[tag] == "" {
			continue
		}
		spec := tag + "=" + ids[tag]
		if found := v.Resolve(spec); len(found) > 1 {
			carried = cmp.Or(carried, fmt.Sprintf("%s is carried by %s and %s", spec, found[0].Name, found[1].Name))
			continue
		}
		return Named{Spec: spec, Why: because(tag, carried)}, nil
	}
	if carried != "" {
		return Named{}, fmt.Errorf("%s: %w: %s", n.Name, ErrCarried, carried)
	}
	return Named{}, fmt.Errorf("%s: %w: %s", n.Name, ErrNoName, strings.Join(slices.Compact(tags), " or "))
}

func because(tag, carried string) string {
	switch {
	case carried != "":
		return carried
	case tag == "UUID":
		return "it stays when the table is recreated"
	case tag == "LABEL":
		return "a label is given by people, and may be given twice"
	case tag == "PARTLABEL":
		return "the name of a partition may be given twice"
	}
	return "it stays when the contents are recreated"
}

// path is the steadiest path of a node: the mapper's, or udev's link by where it is plugged
// in, or by what the disk says of itself.
func path(n inventory.Node) Named {
	if n.Form == inventory.Volume && n.Alias != "" {
		return Named{Spec: "/dev/mapper/" + n.Alias, Why: "a volume keeps its name"}
	}
	for _, place := range []string{"/dev/disk/by-path/", "/dev/disk/by-id/"} {
		for _, link := range n.Links {
			if strings.HasPrefix(link, place) {
				return Named{
					Spec: link,
					Why: map[string]string{
						"/dev/disk/by-path/": "the plug that it is in",
						"/dev/disk/by-id/":   "what the disk says of itself",
					}[place],
				}
			}
		}
	}
	return Named{
		Spec:    n.Path,
		Why:     "there is no link that stays",
		Warning: n.Path + " is a kernel name: another disk may have it after the next boot",
	}
}

// Again reports whether a line names its device in the way of the word.
func Again(spec, by string) bool {
	return strings.HasPrefix(fstab.Node(spec), "/dev/disk/by-"+strings.ToLower(by)+"/")
}
