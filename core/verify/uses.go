package verify

import (
	"fmt"
	"slices"
	"strings"

	"fundus/core/finding"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/table"
	"fundus/core/text/fstab"
	"fundus/core/way"
)

// fullAt is the share of blocks or inodes, in percent, from which a mount is
// nearly full.
//
// ext4 keeps five percent for root: at that share an ordinary user's writes fail already.
const fullAt = 95

// uses looks at what is mounted: how full it is, and whether the next boot would
// mount the same.
func (k *look) uses() (out []finding.Finding) {
	lines := map[string]fstab.Unit{}
	for _, u := range k.units {
		if u.None == "" {
			lines[u.Where] = u
		}
	}
	for _, u := range k.v.Uses {
		// What another namespace mounted follows no line of this machine's fstab.
		if u.How != inventory.Mounted || u.Elsewhere != "" {
			continue
		}
		out = append(out, full(u)...)
		if l, ok := lines[u.Where]; ok {
			out = append(out, k.otherwise(u, l)...)
		}
	}
	return out
}

// Blocks and inodes run out separately, and a program says "no space left" for both.
func full(u inventory.Use) (out []finding.Finding) {
	s := u.Space
	if s.Total > 0 && !u.ReadOnly && (s.Total-s.Free)*100/s.Total >= fullAt {
		out = append(out, MountFull.New(u.Node, "%s has %v of %v left", u.Where, s.Free, s.Total).WithRemedy("delete or move something, or make it larger"))
	}
	if s.Files > 0 && !u.ReadOnly && (s.Files-s.Left)*100/s.Files >= fullAt {
		out = append(out, MountFull.New(u.Node, "%s has %d of %d inodes left", u.Where, s.Left, s.Files).WithRemedy("many small files: delete or move some; only a new file system has more inodes"))
	}
	return out
}

// otherwise holds a mount against the line of fstab for its place.
func (k *look) otherwise(u inventory.Use, l fstab.Unit) []finding.Finding {
	thing := fmt.Sprintf("%s:%d", fstab.Path, l.Line)
	found := k.by.Resolve(l.Entry.Spec)
	switch {
	case !namesDevice(l.Entry.Spec) || len(found) == 0: // said elsewhere
	case !slices.ContainsFunc(found, func(n inventory.Node) bool { return n.Name == u.Node }):
		return []finding.Finding{MountDiffers.New(thing, "the line mounts %s at %s, where %s is mounted now",
			found[0].Name, u.Where, u.Node).
			WithRemedy("where what is mounted now is right, let the line name it")}
	// The most common reason is errors=remount-ro: the kernel found damage, and what is
	// written since is lost on every program's side, without a word on the terminal.
	case u.ReadOnly && !l.Entry.On("ro", "rw"):
		return []finding.Finding{MountDiffers.New(u.Node, "%s is mounted read-only, the line of fstab does not say so", u.Where).
			WithRemedy("where the kernel made it read-only, its log says why: look there before anything is mounted again")}
	}
	return nil
}

// fit looks at whether content, partition, type and table fit each other.
func fit(v *inventory.Inventory) (out []finding.Finding) {
	for _, n := range v.Nodes {
		if n.Table != nil && n.Table.Scheme == table.MBR && n.Geometry.Logical > 0 && uint64(n.Size)/uint64(n.Geometry.Logical) > 1<<32 {
			limit := quantity.Bytes(n.Geometry.Logical) << 32
			out = append(out, TableTooSmall.New(n.Name, "the disk has %v, an MBR reaches %v", n.Size, limit).WithMend(way.TableConvert(n.Name, "--scheme", "gpt")))
		}
		out = append(out, nameless(n)...)
		c, ok := n.Content()
		if !ok || n.Problem != "" || c.Class == fs.Fence {
			continue
		}
		out = append(out, typeFits(v, n, c)...)
		// A file system ends on whole groups or clusters, so that a little is always left:
		// a hundredth, or 8 MiB, is no room that anybody misses.
		if spare := n.Size - c.Size; grows(c) && c.Size > 0 && spare > max(8*quantity.MiB, n.Size/100) {
			out = append(out, ContentSmaller.New(n.Name, "the %s has %v, the device %v: it could grow by %v", c.Kind,
				c.Size, n.Size, spare).WithRemedy("nothing needs to be done at once"))
		}
		if c.Due == "" && !c.CheckBy.IsZero() && v.Machine.Now.After(c.CheckBy) {
			c.Due = "it was to be checked by " + c.CheckBy.Format("2006-01-02")
		}
		if c.Due != "" {
			out = append(out, ContentDue.New(n.Name, "%s", c.Due).WithRemedy("have it checked when it is next unmounted"))
		}
		// A stripe fits where the one is a multiple of the other: then whole stripes of the
		// array are written, be it one or several at a time.
		if best := quantity.Bytes(n.Geometry.OptIO); c.Stripe > 0 && best > 0 && best%c.Stripe != 0 && c.Stripe%best != 0 {
			out = append(out, ContentStripe.New(n.Name,
				"the %s was made for stripes of %v, the device does best with %v", c.Kind, c.Stripe,
				best).WithRemedy("nothing needs to be done at once; a new file system would fit"))
		}
		if c.State == fs.Errors {
			out = append(out, ContentErrors.New(n.Name, "the kernel recorded errors in the %s %s", c.Kind, c.Label).
				WithRemedy("copy away what matters, unmount it, and have it checked before it is written to again"))
		}
		if grows(c) && c.UUID == "" {
			out = append(out, IdentifierNone.New(n.Name, "the %s has no UUID", c.Kind).WithRemedy("name it by its PARTUUID"))
		}
	}
	return out
}

// nameless looks for tables and entries whose identifiers are all zeros: then
// every such disk has the same.
func nameless(n inventory.Node) (out []finding.Finding) {
	zeros := func(id string) bool { return id != "" && strings.Trim(id, "0-") == "" }
	if n.Table != nil && zeros(n.Table.ID) {
		out = append(out, IdentifierNone.New(n.Name, "its %s has no identifier of its own: %s",
			strings.ToUpper(string(n.Table.Scheme)), n.Table.ID).
			WithRemedy("PARTUUID cannot name its partitions: name them by the UUID of what they hold"))
	}
	// Of a GPT, whose first group has eight digits too: an MBR makes the PARTUUID of the
	// disk's signature, which the finding above is about.
	if id, _, _ := strings.Cut(n.Entry.UUID, "-"); n.Form == inventory.Partition && zeros(n.Entry.UUID) && len(id) == 8 {
		out = append(out, IdentifierNone.New(n.Name, "its PARTUUID is %s", n.Entry.UUID).WithMend(way.PartitionEdit(n.Name, "--uuid", "new")))
	}
	return out
}

// grows reports whether the content could be larger than it is, and has a UUID by
// rights.
func grows(c fs.Content) bool {
	return c.State != fs.Damaged && c.Grows && !c.Spans()
}

// Linux mounts what it finds, whatever the type says. The type matters to those who look
// for a partition without a name: firmware for its EFI partition, which it does not find
// under another type, and systemd's generator for swap, home and the like.
func typeFits(v *inventory.Inventory, n inventory.Node, c fs.Content) []finding.Finding {
	disk, ok := v.Node(n.Parent)
	if !ok || disk.Table == nil {
		return nil
	}
	t, known := table.FindType(disk.Table.Scheme, n.Entry.Type)
	if !known || len(t.Holds) == 0 || slices.Contains(t.Holds, c.Kind) {
		return nil
	}
	f := TypeMisfit.New(n.Name, "its type is %s (%s), it holds %s", t.Name, t.Meaning, c.Kind)
	if t.Name == "esp" {
		f.Severity = finding.Warning
	}
	if fits, ok := table.Fitting(c.Kind, disk.Table.Scheme); ok {
		return []finding.Finding{f.WithMend(way.PartitionEdit(n.Name, "--type", fits.Name))}
	}
	return []finding.Finding{f.WithRemedy("nothing needs to be done where it is named by an identifier; else fundus partition edit gives it another type")}
}
