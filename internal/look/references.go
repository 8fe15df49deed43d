package look

import (
	"context"
	"maps"
	"slices"
	"strings"

	"fundus/core/inventory"
	"fundus/core/refs"
	"fundus/core/target"
	"fundus/core/verify"
	"fundus/internal/machine"
)

// FindReferences finds the references of a device, or those that say an
// identifier.
func FindReferences(ctx context.Context, r machine.Reader, word string) (*References, error) {
	v, err := r.Inventory(ctx)
	if err != nil {
		return nil, err
	}
	out := &References{Word: word, Looked: len(v.Files)}
	n, errNone := target.Look(v, word)
	switch {
	case errNone == nil:
		out.Devices = []inventory.Node{n}
		for _, member := range v.Family(n.Name) {
			for _, ref := range refs.Of(v, member.Name) {
				out.Lines = append(out.Lines, Reference{ref, member.Name})
			}
		}
		out.stale(v, n.Name)
	case strings.Contains(word, "="):
		out.Devices = v.Resolve(refs.Normal(word))
		for _, ref := range refs.Named(v, word) {
			names := ""
			for _, found := range out.Devices {
				names = strings.TrimSpace(names + " " + found.Name)
			}
			out.Lines = append(out.Lines, Reference{ref, names})
		}
		if r, is := verify.AllRemade(v)[refs.Normal(word)]; is {
			out.Remade = append(out.Remade, r)
		}
	default:
		return nil, errNone
	}
	return out, nil
}

// stale adds the lines that say an identifier which the device had, before its partition was
// made anew.
func (r *References) stale(v *inventory.Inventory, node string) {
	again := verify.AllRemade(v)
	for _, spec := range slices.Sorted(maps.Keys(again)) {
		if again[spec].Node != node {
			continue
		}
		r.Remade = append(r.Remade, again[spec])
		for _, ref := range refs.Named(v, spec) {
			r.Lines = append(r.Lines, Reference{ref, ""})
		}
	}
}

// References is what names a device, or says an identifier.
type References struct {
	Word    string
	Devices []inventory.Node // that it means
	Lines   []Reference
	Looked  int // text files that were read
	// Remade are partitions that lines probably mean by an identifier which no device has.
	Remade []verify.Remade
}

// Reference is one of them, with the device that it means; empty for none.
type Reference struct {
	refs.Reference
	Device string
}

// Former is how many lines mean a device by an identifier that it has no more.
func (r *References) Former() (n int) {
	for _, l := range r.Lines {
		if l.Device == "" && len(r.Devices) == 1 {
			n++
		}
	}
	return n
}
