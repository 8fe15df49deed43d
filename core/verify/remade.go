package verify

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/google/uuid"

	"fundus/core/finding"
	"fundus/core/inventory"
	"fundus/core/refs"
	"fundus/core/table"
	"fundus/core/text/fstab"
	"fundus/core/way"
)

// Remade is what was probably made anew, by hand and with another identifier, while lines name it
// by the one that it had: a partition with another PARTUUID, or an area of swap with another UUID.
type Remade struct {
	Node  string
	Tag   string   // of the identifier
	Mend  way.Step // gives it back the one that the lines say
	Guess bool     // nothing but its kind speaks for it
}

// AllRemade lists them by the identifier that the lines say, as PARTUUID=… or UUID=….
//
// What holds the same is known by its use: by what is mounted where the line says, by being
// the only area of swap, the running root, or the only one of the line's kind that nothing
// names. Where two lines would mean different ones nobody knows.
func AllRemade(v *inventory.Inventory) map[string]Remade { return newLook(v).allRemade() }

// allRemade works them out once for all findings: it goes through every line, with every device.
func (k *look) allRemade() map[string]Remade {
	if k.remade != nil {
		return k.remade
	}
	out, unsure := map[string]Remade{}, map[string]bool{}
	k.remade = out
	said, named := map[string]bool{}, map[string]bool{}
	lines := refs.All(k.v)
	for _, r := range lines {
		said[strings.ToLower(refs.Normal(r.Spec))] = true
		for _, n := range r.Resolve(k.by) {
			named[n.Name] = true
		}
	}
	enter := func(spec, node string, guess bool) {
		spec = refs.Normal(spec)
		if other, _ := k.misspelt(spec); other != "" {
			return // it is that device's
		}
		if k.swapAgain(spec, node, said) {
			out[spec] = Remade{node, "UUID", way.Adjust(node, "uuid="+strings.TrimPrefix(spec, "UUID=")), guess}
			return
		}
		value, is := strings.CutPrefix(spec, "PARTUUID=")
		if _, err := uuid.Parse(value); !is || err != nil || node == "" || len(k.by.Resolve(spec)) > 0 {
			return
		}
		n, _ := k.v.Node(node)
		disk, _ := k.v.Node(n.Parent)
		if disk.Table == nil || disk.Table.Scheme != table.GPT || said[strings.ToLower("PARTUUID="+n.Entry.UUID)] {
			return
		}
		if was, twice := out[spec]; unsure[spec] || twice && was.Node != node {
			delete(out, spec)
			unsure[spec] = true
			return
		}
		out[spec] = Remade{node, "PARTUUID", way.PartitionEdit(node, "--uuid="+value), guess}
	}
	for _, u := range k.units {
		node, guess := k.means(u, named)
		enter(u.Entry.Spec, node, guess)
	}
	for _, r := range lines {
		if likely := k.likely(r); r.Path != fstab.Path && len(likely) == 1 {
			enter(r.Spec, likely[0].Name, false)
		}
	}
	return out
}

// swapAgain reports whether the node is the only area of swap, is not in use, and has a UUID that
// no line says, while the one that is asked for is nobody's.
func (k *look) swapAgain(spec, node string, said map[string]bool) bool {
	value, is := strings.CutPrefix(spec, "UUID=")
	if _, err := uuid.Parse(value); !is || err != nil || len(k.swaps) != 1 || k.swaps[0].Name != node || len(k.v.UsesOf(node)) > 0 ||
		len(k.by.Resolve(spec)) > 0 {
		return false
	}
	c, ok := k.swaps[0].Content()
	return ok && !said[strings.ToLower("UUID="+c.UUID)]
}

// means is the node that a line stands for whose identifier names nothing, "" where nobody
// knows: what is mounted there, or the only one of its kind that is not named by any line.
func (k *look) means(u fstab.Unit, named map[string]bool) (node string, guess bool) {
	if u.Entry.IsSwap() {
		if len(k.swaps) == 1 {
			return k.swaps[0].Name, false
		}
		return "", false
	}
	if use, ok := k.v.MountedAt(u.Where); ok {
		return use.Node, false
	}
	for _, n := range k.v.Nodes {
		c, ok := n.Content()
		if !ok || n.Parent == "" || !c.MountsAs(u.Entry.Type) || len(k.v.UsesOf(n.Name)) > 0 || named[n.Name] {
			continue
		}
		if node != "" {
			return "", false
		}
		node = n.Name
	}
	return node, true
}

// said puts it into the finding on a line. What is no more than a guess is no command that
// one follows: another disk may have been meant, which is not plugged in.
func (r Remade) said(f finding.Finding) finding.Finding {
	f.Text += "; it may mean " + r.Node + ", recreated with another " + r.Tag
	if r.Guess {
		f.Mend = way.None()
		return f.WithRemedy("only where it is %s that is meant: %s", r.Node, r.Mend)
	}
	return f.WithMend(r.Mend)
}

// misspelt finds the one device that has the value of an identifier, in other letters or under
// another tag: a UUID behind PARTUUID=, or in capitals. Then that device is what is meant.
func (k *look) misspelt(spec string) (node, how string) {
	tag, value, ok := strings.Cut(refs.Normal(spec), "=")
	if !ok || value == "" || len(k.by.Resolve(spec)) > 0 {
		return "", ""
	}
	for _, n := range k.v.Nodes {
		ids := n.Identifiers()
		if n.Form == inventory.Image || n.Hardware.Bus == "image" {
			continue // which is no device of the machine
		}
		for _, other := range slices.Sorted(maps.Keys(ids)) {
			if !strings.EqualFold(ids[other], value) || other != tag && ids[other] != value && strings.HasSuffix(other, "LABEL") {
				continue
			}
			if node != "" && node != n.Name {
				return "", ""
			}
			if node, how = n.Name, fmt.Sprintf("%s is the %s of %s", value, other, n.Name); other == tag {
				how = fmt.Sprintf("%s has %s=%s: the case of its letters counts", n.Name, tag, ids[other])
			}
		}
	}
	return node, how
}
