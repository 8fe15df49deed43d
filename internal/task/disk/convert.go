package disk

import (
	"context"
	"fmt"
	"slices"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/table"
	"fundus/core/table/convert"
	"fundus/core/table/schemes"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/task"
)

// TableConvert writes a table in the other scheme; the partitions stay where they
// are.
type TableConvert struct {
	Disk   string       `json:"disk"`
	Scheme table.Scheme `json:"scheme"`
}

// Verb of the request.
func (*TableConvert) Verb() string { return "table convert" }

// Devices implements task.About.
func (r *TableConvert) Devices() []string { return []string{r.Disk} }

func (r *TableConvert) Plan(ctx context.Context, p *task.Planner) error {
	v, n, err := p.Disk(ctx, r.Disk)
	if err != nil {
		return err
	}
	p.Title("convert the table of %s to %s", n.Name, r.Scheme.Name())
	p.Results(draft.RoleTable, n.Name)
	old, err := p.Editor(ctx, n)
	if err != nil {
		return err
	}
	m := old.Model()
	if m.Scheme == r.Scheme {
		return nil
	}
	dev, err := p.Stage.Open(ctx, n.Name)
	if err != nil {
		return err
	}
	fresh, err := schemes.New(dev, schemes.Wanted{Scheme: r.Scheme, Step: p.Config.Step(n.Geometry), ID: p.Fresh()})
	if err != nil {
		return machine.About(n.Name, err)
	}
	if r.Scheme == table.GPT {
		overwritten(p, dev, fresh.Model())
	}
	remarks, err := convert.Into(fresh, m, p.Config.Step(n.Geometry), func() string { return p.Fresh().String() })
	for _, said := range remarks {
		if said.Warning {
			p.Warn("%s", said.Text)
		} else {
			p.Note("%s", said.Text)
		}
	}
	if err != nil {
		return machine.About(n.Name, err)
	}
	if err := follow(ctx, p, v, n, m, fresh.Model()); err != nil {
		return err
	}
	if err := p.PutAnew(ctx, n, fresh, nil); err != nil {
		return err
	}
	return p.Stage.TellKernel(ctx, n.Name)
}

// overwritten warns of what lies where a GPT goes.
func overwritten(p *task.Planner, dev block.Device, m *table.Table) {
	sector := int64(m.Sector)
	first, last := int64(m.Usable.Start)*sector, int64(m.Usable.End())*sector
	for _, place := range []struct {
		from, to int64
		words    string
	}{{sector, first, "after sector 0, where a boot loader's second part may be"}, {last, dev.Size(), "at the end of the disk"}} {
		b, err := block.ReadSized(dev, place.from, place.to-place.from, 8<<20)
		if err != nil || !block.IsZero(b) {
			p.Warn("the %d sectors %s are not empty, and are overwritten", (place.to-place.from)/sector, place.words)
		}
	}
}

// follow lets every text file follow the identifiers of the partitions, which are
// where they were, and refuses where one that is in use would get another number.
func follow(ctx context.Context, p *task.Planner, v *inventory.Inventory, disk inventory.Node, before, after *table.Table) error {
	for _, now := range after.Parts {
		i := slices.IndexFunc(before.Parts, func(o table.Partition) bool { return o.Span == now.Span && o.Role != table.Extended })
		if i < 0 {
			continue
		}
		was := before.Parts[i]
		n, ok := v.Node(nameOf(v, disk, was.Number))
		if !ok {
			continue
		}
		if was.UUID != now.UUID {
			p.Facts(fs.Fact{Name: fmt.Sprintf("partition %d", was.Number), Value: fmt.Sprintf("PARTUUID %s becomes %s", was.UUID, now.UUID)})
		}
		pairs := [][2]string{{"PARTUUID=" + was.UUID, "PARTUUID=" + now.UUID}}
		if was.Name != "" && now.Name == "" {
			pairs = append(pairs, [2]string{"PARTLABEL=" + was.Name, "PARTUUID=" + now.UUID})
		}
		if was.Number != now.Number {
			if err := task.Free(v, n); err != nil {
				return fmt.Errorf("partition %d would become %d: %w", was.Number, now.Number, err)
			}
			p.Facts(fs.Fact{Name: "renumbered", Value: fmt.Sprintf("partition %d becomes %d", was.Number, now.Number)})
			pairs = append(pairs, [2]string{path(p, disk, was.Number), path(p, disk, now.Number)})
		}
		for _, pair := range pairs {
			if pair[0] == pair[1] || v.Imaged(n) {
				continue
			}
			if err := p.Rename(ctx, v, n, pair[0], pair[1]); err != nil {
				return err
			}
		}
	}
	return nil
}
