package task

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"fundus/core/fstab"
	"fundus/core/inventory"
	"fundus/core/refs"
	"fundus/internal/machine"
)

// rename lets every text file that names the node by the old identifier, which it had in
// v, say the new one. Where another device carries the old one too, it stays: nobody knows
// which one is meant.
func (p *Planner) rename(ctx context.Context, v *inventory.Inventory, n inventory.Node, old, new string) error {
	if found := v.Resolve(old); len(found) != 1 || found[0].Name != n.Name || imaged(v, n) {
		if len(found) > 1 && len(refs.Named(v, old)) > 0 {
			p.warn("%s is carried by %s and %s: the lines that say it are left as they are", old, found[0].Name, found[1].Name)
		}
		return nil
	}
	return p.rewrite(ctx, old, new)
}

// rewrite lets every text file that says the old identifier, or the old path, say
// the new one.
func (p *Planner) rewrite(ctx context.Context, old, new string) error {
	v, err := p.now(ctx)
	if err != nil {
		return err
	}
	files, left := refs.Rewrite(v, old, new)
	for _, f := range files {
		if err := p.Stage.SetFile(fmt.Sprintf("say %s in %s", new, f.Path), f.Path, f.Data); err != nil {
			return err
		}
		if f.Writer != "" {
			p.note("%s is written by %s: the line is changed here, and what it is made from as far as it says %s", f.Path, f.Writer, old)
		}
	}
	for _, words := range left {
		p.warn("%s", words)
	}
	units := func(f refs.Rewritten) bool {
		return f.Path == fstab.Path || f.Path == "/etc/crypttab" || strings.HasPrefix(f.Path, "/etc/systemd/")
	}
	if slices.ContainsFunc(files, units) {
		return p.reload(ctx)
	}
	return nil
}

// imaged reports whether the node is an image file or lies in one: no text file
// of the machine names that.
func imaged(v *inventory.Inventory, n inventory.Node) bool {
	disk, ok := v.Node(n.Parent)
	return n.Form == inventory.Image || ok && disk.Form == inventory.Image
}

// LookReferences finds the references of a device, or those that say an
// identifier.
func LookReferences(ctx context.Context, r machine.Reader, word string) (*References, error) {
	v, err := r.Inventory(ctx)
	if err != nil {
		return nil, err
	}
	out := &References{Word: word, Looked: len(v.Files)}
	n, errNone := Resolve(v, word)
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
