package task

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/refused"
	"fundus/core/scan"
	"fundus/core/table"
	"fundus/core/table/gpt"
	"fundus/core/table/schemes"
	"fundus/core/target"
	"fundus/core/way"
	"fundus/internal/machine"
)

// Free refuses a partition that the kernel would not forget.
func Free(v *inventory.Inventory, n inventory.Node) error {
	return machine.CheckClaim(v, machine.Whole(n, machine.HoldContent))
}

// Vacated refuses a disk of which a partition is in use: that it has partitions is what whoever named
// it may not know, and comes first.
func Vacated(v *inventory.Inventory, disk inventory.Node) error {
	parts := v.Parts(disk.Name)
	for _, part := range parts {
		err := Free(v, part)
		switch {
		case err == nil:
		case len(parts) == 1:
			return way.To(fmt.Errorf("%s has a partition: %w", disk.Name, err), way.Survey(disk.Name))
		default:
			return way.To(fmt.Errorf("%s has %d partitions: %w", disk.Name, len(parts), err), way.Survey(disk.Name))
		}
	}
	return nil
}

// putTable writes the table in the order that leaves Linux the old or the new one, with
// what comes before and after it on the disk, and looks whether it is what was asked for.
func (p *Planner) putTable(ctx context.Context, disk inventory.Node, t table.Editor, hold machine.Hold, before, after func(dev block.Device) error) error {
	m := t.Model()
	if p.moves != "" {
		p.Note("%s", p.moves)
		p.moves = ""
	}
	if m.Scheme == table.MBR && disk.Form == inventory.Image && disk.Geometry.Logical != block.DefaultGeometry.Logical {
		return fmt.Errorf("%s: %w: an MBR does not say how large a sector is, and this image is of a disk with sectors of %d bytes: everybody who looks at it would find the partitions elsewhere; a GPT says it",
			disk.Name, table.ErrValue, disk.Geometry.Logical)
	}
	err := p.Write(ctx, "write the table", machine.Whole(disk, hold), func(dev block.Device) error {
		if err := before(dev); err != nil {
			return err
		}
		warning, err := t.Write(dev)
		if warning != "" {
			p.Warn("%s", warning)
		}
		if err != nil {
			return err
		}
		return after(dev)
	})
	if err != nil {
		return machine.About(disk.Name, err)
	}
	return p.checkTable(ctx, disk, m)
}

// checkTable reads the table back from the disk as it would be, as whoever looks next
// does, and holds it against the one that was asked for.
func (p *Planner) checkTable(ctx context.Context, disk inventory.Node, want *table.Table) error {
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	n, _ := v.Node(disk.Name)
	got := n.Table
	if got == nil && len(want.Parts) == 0 && want.Scheme == table.MBR {
		return nil // an MBR without a partition may not look like one
	}
	if got == nil || got.Scheme != want.Scheme || got.ID != want.ID || got.Sector != want.Sector || !slices.Equal(got.Parts, want.Parts) {
		return fmt.Errorf("%s: the table would not be what was asked for: %s instead of %s; nothing was written. This is a fault of Fundus",
			disk.Name, tableWords(got), tableWords(want))
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
	return fmt.Sprintf("%s %s with %s", t.Scheme.Name(), t.ID, cmp.Or(strings.Join(parts, ", "), "no partition"))
}

func nothing(block.Device) error { return nil }

// PutAnew writes a table in place of whatever the disk has: the contents go, and no GPT
// is left behind an MBR.
func (p *Planner) PutAnew(ctx context.Context, disk inventory.Node, t table.Editor, gone []fs.Content) error {
	hold, erase := machine.HoldTable, nothing
	if len(gone) > 0 {
		hold = machine.HoldContent
		erase = func(dev block.Device) error { return EraseSignatures(dev, gone) }
	}
	return p.putTable(ctx, disk, t, hold, erase, schemes.Rest(t.Model().Scheme))
}

// Change writes an edited table, and tells the kernel what differs.
func (p *Planner) Change(ctx context.Context, disk inventory.Node, t table.Editor) error {
	v, err := p.Now(ctx)
	if err == nil {
		err = overUsed(v, disk, t.Model())
	}
	if err != nil {
		return err
	}
	if err := p.putTable(ctx, disk, t, machine.HoldTable, nothing, nothing); err != nil {
		return err
	}
	return p.Stage.TellKernel(ctx, disk.Name)
}

// overUsed refuses a table in which something new lies over a partition that the kernel has
// still, and that is in use, though the table does not list it any more.
func overUsed(v *inventory.Inventory, disk inventory.Node, m *table.Table) error {
	for _, k := range disk.Kernel {
		name, _ := scan.Name(disk, k.Number)
		uses := v.UsesOf(name)
		if len(uses) == 0 || k.Size == 0 {
			continue
		}
		span := extent.Span{Start: uint64(k.Start / m.Sector), Count: uint64(k.Size / m.Sector)}
		as := func(o table.Partition) bool { return o.Span == span }
		if slices.ContainsFunc(m.Parts, as) {
			continue
		}
		for _, part := range m.Parts {
			stays := disk.Table != nil && slices.ContainsFunc(disk.Table.Parts, func(o table.Partition) bool { return o.Span == part.Span })
			if part.Role != table.Extended && !stays && (part.Number != k.Number || part.Span.Start != span.Start) &&
				part.Span.Overlaps(span) {
				return machine.InUse(name, fmt.Sprintf("the table does not list it, but the kernel has it still, at sectors %v, where partition %d would be; and it is",
					span, part.Number), uses[0])
			}
		}
	}
	return nil
}

// mostLabels is how often a kind may lie on a device: a pool has four labels.
const mostLabels = 16

// EraseSignatures zeroes the sectors of every signature.
func EraseSignatures(dev block.Device, contents []fs.Content) error {
	_, err := EraseEach(dev, contents, eraseSectors)
	return err
}

// EraseEach erases contents and what is taken for the same kind then: some have labels at
// both ends, each of which is believed where the one before it is gone. It counts those.
func EraseEach(dev block.Device, contents []fs.Content, erase func(block.Device, []fs.Content) error) (further int, err error) {
	gone := contents
	for range mostLabels {
		if err := erase(dev, gone); err != nil {
			return further, err
		}
		if gone = ofKinds(dev, contents); len(gone) == 0 {
			return further, nil
		}
		further += len(gone)
	}
	return further, fmt.Errorf("more than %d signatures of %s, one after another", mostLabels, gone[0].Kind)
}

// ofKinds finds what is on the device of the kinds of these contents. What cannot be read
// is not looked for.
func ofKinds(dev block.Device, contents []fs.Content) []fs.Content {
	found, _ := kind.Probe(dev)
	return slices.DeleteFunc(found, func(c fs.Content) bool {
		return !slices.ContainsFunc(contents, func(o fs.Content) bool { return o.Kind == c.Kind })
	})
}

func eraseSectors(dev block.Device, contents []fs.Content) error {
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

// Editor gives the table of a disk for editing; one with a damaged copy is
// repaired first.
func (p *Planner) Editor(ctx context.Context, n inventory.Node) (table.Editor, error) {
	dev, err := p.Stage.Open(ctx, n.Name)
	if err != nil {
		return nil, err
	}
	t, note, err := schemes.Open(dev)
	switch {
	case errors.Is(err, schemes.ErrNone):
		return nil, p.noTable(ctx, n)
	case errors.Is(err, gpt.ErrCut):
		return nil, way.To(refused.As(refused.TableDamaged, fmt.Errorf("%s: the disk has become smaller than its table, which is not changed before it fits again",
			n.Name)), way.Verify(n.Name))
	case errors.Is(err, schemes.ErrDamaged):
		return nil, damagedTable(n, err)
	case err != nil:
		return nil, fmt.Errorf("%s: %w", n.Name, err)
	case n.Table == nil: // what looks like one is the boot sector of what is there
		return nil, p.noTable(ctx, n)
	}
	if note != "" { // which is so only once the table is written
		p.moves = note
	}
	return t, nil
}

func (p *Planner) noTable(ctx context.Context, n inventory.Node) error {
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	return target.NoTable(v, n)
}

// damagedTable is the refusal to change a table of which a copy is damaged; where none is
// good there is nothing to repair it from.
func damagedTable(n inventory.Node, err error) error {
	if n.Holding() == inventory.LostTable {
		return way.To(fmt.Errorf("%s: %w: its GPT is damaged in both copies", n.Name, target.ErrNoTable), way.TableRepair(n.Name, "--search"))
	}
	return way.To(fmt.Errorf("%s: %w; nothing is changed while a copy is damaged", n.Name, err), way.TableRepair(n.Name))
}
