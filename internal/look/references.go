package look

import (
	"context"
	"strings"

	"fundus/core/inventory"
	"fundus/core/refs"
	"fundus/core/target"
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
	case strings.Contains(word, "="):
		out.Devices = v.Resolve(refs.Normal(word))
		for _, ref := range refs.Named(v, word) {
			names := ""
			for _, found := range out.Devices {
				names = strings.TrimSpace(names + " " + found.Name)
			}
			out.Lines = append(out.Lines, Reference{ref, names})
		}
	default:
		return nil, errNone
	}
	return out, nil
}

// References is what names a device, or says an identifier.
type References struct {
	Word    string
	Devices []inventory.Node // that it means
	Lines   []Reference
	Looked  int // text files that were read
}

// Reference is one of them, with the device that it means; empty for none.
type Reference struct {
	refs.Reference
	Device string
}
