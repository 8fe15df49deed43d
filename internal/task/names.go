package task

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"fundus/core/inventory"
	"fundus/core/refs"
	"fundus/core/text/fstab"
	"fundus/internal/machine"
)

// Rename lets every text file that names the node by the old identifier, which it had in
// v, say the new one. Where another device carries the old one too, it stays: nobody knows
// which one is meant.
func (p *Planner) Rename(ctx context.Context, v *inventory.Inventory, n inventory.Node, old, new string) error {
	if found := v.Resolve(old); len(found) != 1 || found[0].Name != n.Name || v.Imaged(n) {
		if len(found) > 1 && len(refs.Named(v, old)) > 0 {
			p.Warn("%s is carried by %s and %s: the lines that say it are left as they are", old, found[0].Name, found[1].Name)
		}
		return nil
	}
	return p.Rewrite(ctx, old, new)
}

// Rewrite lets every text file that says the old identifier, or the old path, say
// the new one.
func (p *Planner) Rewrite(ctx context.Context, old, new string) error {
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	files, left := refs.Rewrite(v, old, new)
	for _, f := range files {
		if err := p.setFile(fmt.Sprintf("say %s in %s", new, f.Path), f.Path, f.Data); err != nil {
			return err
		}
		if f.Writer != "" {
			p.Note("%s is written by %s: the line is changed here, and what it is made from as far as it says %s", f.Path, f.Writer, old)
		}
	}
	for _, words := range left {
		p.Warn("%s", words)
	}
	units := func(f refs.Rewritten) bool {
		return f.Path == fstab.Path || f.Path == "/etc/crypttab" || strings.HasPrefix(f.Path, "/etc/systemd/")
	}
	if slices.ContainsFunc(files, units) {
		return p.Reload(ctx)
	}
	return nil
}

// setFile replaces a text file, and says where it lies if that is not where it is named.
func (p *Planner) setFile(title, path string, data []byte) error {
	if err := p.Stage.SetFile(title, path, data); err != nil {
		return err
	}
	return p.noted(path)
}

// noted says what is odd about the place of a text file that is changed.
func (p *Planner) noted(path string) error {
	at, err := p.Stage.Place(path)
	if err != nil {
		return err
	}
	if len(at.Links) > 0 {
		p.Note("%s leads to %s: the link stays, and that file is changed", path, at.Path)
	}
	if at.Names > 1 {
		p.Warn("%s has %s: what it is called there keeps the old contents", at.Path, more(at.Names-1))
	}
	if at.Mounted && p.Stage.InPlace {
		p.Warn("%s is overwritten in place: if interrupted, half a file is left", at.Path)
	}
	return nil
}

func more(names int) string {
	if names == 1 {
		return "another name"
	}
	return fmt.Sprintf("%d other names", names)
}

// SetFstab replaces the table, and has systemd read it where that runs: it would
// mount by the old one until the next boot.
func (p *Planner) SetFstab(ctx context.Context, title string, table *fstab.File) error {
	if err := p.Stage.SetFstab(title, table); err != nil {
		return err
	}
	if err := p.noted(fstab.Path); err != nil {
		return err
	}
	return p.Reload(ctx)
}

func (p *Planner) Reload(ctx context.Context) error {
	v, err := p.Now(ctx)
	if err != nil || !v.Machine.Systemd {
		return err
	}
	return p.Stage.Tell(ctx, machine.Action{Verb: machine.ReloadUnits})
}

// FstabNow is the table as it would be.
func (p *Planner) FstabNow() *fstab.File { return p.Stage.Fstab() }
