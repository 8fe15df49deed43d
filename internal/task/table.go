package task

import (
	"cmp"
	"context"
	"errors"
	"fmt"
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

func (r *TableNew) plan(ctx context.Context, p *Planner) error {
	v := p.Stage.Before()
	n, err := p.disk(v, r.Disk)
	if err != nil {
		return err
	}
	p.Draft.Title = fmt.Sprintf("new %s on %s", schemeName(r.Scheme), n.Name)
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
		if err := p.free(ctx, part); err != nil {
			return err
		}
	}
	var old []fs.Content // what lies on the whole disk and is no table
	for _, c := range n.Contents {
		if c.Class != fs.Table {
			old = append(old, c)
		}
	}
	err = p.write(ctx, "write the table", whole(n, len(old) > 0), func(dev block.Device) error {
		if len(old) > 0 {
			if err := eraseSignatures(dev, n.Contents); err != nil {
				return err
			}
		}
		return p.putAnew(dev, fresh)
	})
	if err != nil {
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
func (p *Planner) free(_ context.Context, n inventory.Node) error {
	return machine.CheckClaim(p.Stage.Before(), whole(n, true))
}

// putTable writes the table in the order that leaves Linux the old or the new
// one.
func (p *Planner) putTable(dev block.Device, t table.Editor) error {
	warning, err := t.Write(dev)
	if warning != "" {
		p.warn("%s", warning)
	}
	return err
}

// putAnew writes a table in place of another one, of which no GPT is left behind an
// MBR.
func (p *Planner) putAnew(dev block.Device, t table.Editor) error {
	if err := p.putTable(dev, t); err != nil || t.Model().Scheme == table.GPT {
		return err
	}
	return gpt.Erase(dev)
}

// change writes an edited table, and tells the kernel what differs.
func (p *Planner) change(ctx context.Context, disk inventory.Node, t table.Editor) error {
	if err := p.write(ctx, "write the table", whole(disk, false), func(dev block.Device) error { return p.putTable(dev, t) }); err != nil {
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

func (r *TableRepair) plan(ctx context.Context, p *Planner) error {
	n, err := p.disk(p.Stage.Before(), r.Disk)
	if err != nil {
		return err
	}
	p.Draft.Title = "repair the table of " + n.Name
	good, state, err := p.readTable(ctx, n)
	if err != nil {
		return err
	}
	if len(gpt.Check(n.Name, state)) == 0 {
		return nil
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
