package task

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/table"
	"fundus/core/table/gpt"
	"fundus/core/table/schemes"
	"fundus/internal/machine"
)

// TableNew makes a new partition table in place of whatever the disk holds.
type TableNew struct {
	Disk    string       `json:"disk"`
	Scheme  table.Scheme `json:"scheme"`
	Entries int          `json:"entries,omitempty"` // of a GPT; 0 for the usual number
}

// Verb of the request.
func (*TableNew) Verb() string { return "table new" }

func (r *TableNew) Plan(ctx context.Context, p *Planner) error {
	v, err := p.now(ctx)
	if err != nil {
		return err
	}
	n, err := p.disk(v, r.Disk)
	if err != nil {
		return err
	}
	p.title("new %s on %s", schemeName(r.Scheme), n.Name)
	if err := p.lose(ctx, v, n); err != nil {
		return err
	}
	dev, err := p.Stage.Open(ctx, n.Name)
	if err != nil {
		return err
	}
	fresh, err := schemes.New(dev, schemes.Wanted{Scheme: r.Scheme, Entries: r.Entries, Step: step(p.Config, n), ID: p.fresh()})
	if err != nil {
		return fmt.Errorf("%s: %w", n.Name, err)
	}
	for _, part := range v.Parts(n.Name) {
		if err := free(v, part); err != nil {
			return err
		}
	}
	var old []fs.Content // what lies on the whole disk and is no table
	for _, c := range n.Contents {
		if c.Class != fs.Table {
			old = append(old, c)
		}
	}
	var gone []fs.Content
	if len(old) > 0 {
		gone = n.Contents
	}
	if err := p.putAnew(ctx, n, fresh, gone); err != nil {
		return err
	}
	p.newTableFacts(n, fresh.Model())
	return p.Stage.TellKernel(ctx, n.Name)
}

func schemeName(s table.Scheme) string { return strings.ToUpper(string(s)) }

// newTableFacts says what the table can hold.
func (p *Planner) newTableFacts(n inventory.Node, m *table.Table) {
	_, size, _ := m.Bytes(m.Usable)
	p.facts(fs.Fact{Name: "usable", Value: fmt.Sprintf("sectors %d to %d of %d bytes = %v", m.Usable.Start, m.Usable.End()-1, m.Sector, size)},
		fs.Fact{Name: "alignment", Value: fmt.Sprintf("partitions start on multiples of %v", step(p.Config, n))})
	if m.Scheme == table.GPT {
		p.facts(fs.Fact{Name: "disk GUID", Value: m.ID})
		if m.Slots != gpt.DefaultEntries {
			p.facts(fs.Fact{Name: "entries", Value: fmt.Sprintf("%d, of which Linux has devices for the first %d", m.Slots, gpt.HighestNumber)})
		}
		return
	}
	p.facts(fs.Fact{Name: "signature", Value: m.ID},
		fs.Fact{Name: "entries", Value: "four; one of them may be extended and hold logical partitions"})
	if behind := n.Size - quantity.Bytes(m.Usable.End())*m.Sector; behind > 0 {
		p.warn("an MBR reaches %v: %v of the disk can never be used; --scheme gpt has no such limit", n.Size-behind, behind)
	}
}

// free refuses a partition that the kernel would not forget.
func free(v *inventory.Inventory, n inventory.Node) error {
	return machine.CheckClaim(v, whole(n, true))
}

// putTable writes the table in the order that leaves Linux the old or the new one, with
// what comes before and after it on the disk, and looks whether it is what was asked for.
func (p *Planner) putTable(ctx context.Context, disk inventory.Node, t table.Editor, content bool, before, after func(dev block.Device) error) error {
	m := t.Model()
	if m.Scheme == table.MBR && disk.Form == inventory.Image && disk.Geometry.Logical != block.DefaultGeometry.Logical {
		return fmt.Errorf("%s: %w: an MBR does not say how large a sector is, and this image is of a disk with sectors of %d bytes: everybody who looks at it would find the partitions elsewhere; a GPT says it", disk.Name, table.ErrValue, disk.Geometry.Logical)
	}
	err := p.write(ctx, "write the table", whole(disk, content), func(dev block.Device) error {
		if err := before(dev); err != nil {
			return err
		}
		warning, err := t.Write(dev)
		if warning != "" {
			p.warn("%s", warning)
		}
		if err != nil {
			return err
		}
		return after(dev)
	})
	if err != nil {
		return about(disk, err)
	}
	return p.checkTable(ctx, disk, m)
}

// checkTable reads the table back from the disk as it would be, as whoever looks next
// does, and holds it against the one that was asked for.
func (p *Planner) checkTable(ctx context.Context, disk inventory.Node, want *table.Table) error {
	v, err := p.now(ctx)
	if err != nil {
		return err
	}
	n, _ := v.Node(disk.Name)
	got := n.Table
	if got == nil && len(want.Parts) == 0 && want.Scheme == table.MBR {
		return nil // an MBR without a partition may not look like one
	}
	if got == nil || got.Scheme != want.Scheme || got.ID != want.ID || got.Sector != want.Sector || !slices.Equal(got.Parts, want.Parts) {
		return fmt.Errorf("%s: the table would not be what was asked for: %s instead of %s; nothing was written. This is a fault of Fundus", disk.Name, tableWords(got), tableWords(want))
	}
	return nil
}

func tableWords(t *table.Table) string {
	if t == nil {
		return "no table"
	}
	var parts []string
	for _, part := range t.Parts {
		parts = append(parts, fmt.Sprintf("%d at sectors %v", part.Number, part.Span))
	}
	return fmt.Sprintf("%s %s with %s", schemeName(t.Scheme), t.ID, cmp.Or(strings.Join(parts, ", "), "no partition"))
}

func nothing(block.Device) error { return nil }

// putAnew writes a table in place of whatever the disk has: the contents go, and no GPT
// is left behind an MBR.
func (p *Planner) putAnew(ctx context.Context, disk inventory.Node, t table.Editor, gone []fs.Content) error {
	erase, after := nothing, nothing
	if len(gone) > 0 {
		erase = func(dev block.Device) error { return eraseSignatures(dev, gone) }
	}
	if t.Model().Scheme == table.MBR {
		after = gpt.Erase
	}
	return p.putTable(ctx, disk, t, len(gone) > 0, erase, after)
}

// change writes an edited table, and tells the kernel what differs.
func (p *Planner) change(ctx context.Context, disk inventory.Node, t table.Editor) error {
	if err := p.putTable(ctx, disk, t, false, nothing, nothing); err != nil {
		return err
	}
	return p.Stage.TellKernel(ctx, disk.Name)
}

// eraseSignatures zeroes the sectors of every signature.
func eraseSignatures(dev block.Device, contents []fs.Content) error {
	sector := uint64(dev.Geometry().Logical)
	for _, c := range contents {
		for _, s := range c.Signatures {
			start := s.Start / sector * sector
			end := (s.End() + sector - 1) / sector * sector
			if err := dev.WriteZeroes(int64(start), int64(end-start)); err != nil {
				return err
			}
		}
	}
	return dev.Sync()
}

// TableRepair writes both copies of a GPT anew from the good one.
type TableRepair struct {
	Disk string `json:"disk"`
}

// Verb of the request.
func (*TableRepair) Verb() string { return "table repair" }

func (r *TableRepair) Plan(ctx context.Context, p *Planner) error {
	v, err := p.now(ctx)
	if err != nil {
		return err
	}
	n, err := p.disk(v, r.Disk)
	if err != nil {
		return err
	}
	p.title("repair the table of %s", n.Name)
	good, state, err := p.readTable(ctx, n)
	if err != nil {
		return err
	}
	if len(gpt.Check(n.Name, state)) == 0 {
		return nil
	}
	if state.Protective == gpt.OtherTable {
		return fmt.Errorf("%s: %w: Linux goes by its MBR, and the GPT behind it is of another time; fundus table repair %s --search finds what lies on the disk", n.Name, ErrNoTable, n.Name)
	}
	p.facts(fs.Fact{Name: "good copy", Value: fmt.Sprintf("the one at sector %d", good.MyLBA)})
	fixed := good.Edit(quantity.Bytes(n.Geometry.Logical))
	if err := fixed.Rebuild(state.Sectors); err != nil {
		return fmt.Errorf("%s: %w", n.Name, err)
	}
	return p.change(ctx, n, fixed)
}

// readTable gives the copy of a GPT that is to be believed.
func (p *Planner) readTable(ctx context.Context, n inventory.Node) (*gpt.Table, *gpt.State, error) {
	dev, err := p.Stage.Open(ctx, n.Name)
	if err != nil {
		return nil, nil, err
	}
	state, err := gpt.Read(dev)
	if errors.Is(err, gpt.ErrNone) {
		if n.Table != nil {
			return nil, nil, fmt.Errorf("%s: %w: it has an %s, which has one copy only", n.Name, ErrNoTable, schemeName(n.Table.Scheme))
		}
		return nil, nil, noTable(n)
	}
	if err != nil {
		return nil, nil, err
	}
	good := cmp.Or(state.Good(), state.Cut)
	if good == nil {
		return nil, nil, fmt.Errorf("gpt: %s: no good copy: primary: %w; backup: %w; undo the deed that did it (fundus deed list), or make a new table: fundus table new %s", n.Name, state.PrimaryErr, state.BackupErr, n.Name)
	}
	return good, state, nil
}

func noTable(n inventory.Node) error {
	return fmt.Errorf("%s: %w: it has none; fundus table new %s makes one", n.Name, ErrNoTable, n.Name)
}

// editor gives the table of a disk for editing; one with a damaged copy is
// repaired first.
func (p *Planner) editor(ctx context.Context, n inventory.Node) (table.Editor, error) {
	dev, err := p.Stage.Open(ctx, n.Name)
	if err != nil {
		return nil, err
	}
	t, note, err := schemes.Open(dev)
	switch {
	case errors.Is(err, schemes.ErrNone):
		return nil, noTable(n)
	case errors.Is(err, gpt.ErrCut):
		return nil, fmt.Errorf("gpt: %s: the disk has become smaller than its table, which is not changed before it fits again; fundus verify %s says what does not", n.Name, n.Name)
	case errors.Is(err, schemes.ErrDamaged):
		return nil, fmt.Errorf("gpt: %s: %w; nothing is changed while a copy is damaged: fundus table repair %s", n.Name, err, n.Name)
	case err != nil:
		return nil, fmt.Errorf("%s: %w", n.Name, err)
	case n.Table == nil: // what looks like one is the boot sector of what is there
		return nil, noTable(n)
	}
	if note != "" {
		p.note("%s", note)
	}
	return t, nil
}
