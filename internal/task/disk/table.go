package disk

import (
	"cmp"
	"context"
	"errors"
	"fmt"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/refs"
	"fundus/core/table"
	"fundus/core/table/gpt"
	"fundus/core/table/schemes"
	"fundus/core/target"
	"fundus/core/way"
	"fundus/internal/draft"
	"fundus/internal/task"
)

// TableNew makes a new partition table in place of whatever the disk holds.
type TableNew struct {
	Disk    string       `json:"disk"`
	Scheme  table.Scheme `json:"scheme"`
	Entries int          `json:"entries,omitempty"` // of a GPT; 0 for the usual number
	// References decides about lines of fstab that name what goes: drop, disable or keep.
	References string `json:"references,omitempty"`
	Unless     bool   `json:"unless_there,omitempty"` // nothing is done where it has a table of that scheme
}

// Verb of the request.
func (*TableNew) Verb() string { return "table new" }

// Devices implements task.About.
func (r *TableNew) Devices() []string { return []string{r.Disk} }

func (r *TableNew) Plan(ctx context.Context, p *task.Planner) error {
	v, n, err := p.Disk(ctx, r.Disk)
	if err != nil {
		return err
	}
	p.Title("put a new %s on %s", r.Scheme.Name(), n.Name)
	p.Made(n.Name)
	p.Results(draft.RoleTable, n.Name)
	if err := task.CheckDecision(r.References, false); err != nil {
		return err
	}
	if r.Unless && n.Table != nil && n.Table.Scheme == r.Scheme {
		return nil
	}
	if err := task.Vacated(v, n); err != nil {
		return err
	}
	if err := p.Lose(ctx, v, n); err != nil {
		return err
	}
	for _, gone := range v.Family(n.Name) {
		if err := p.Leave(ctx, v, task.Leaving{Node: gone, Lines: refs.Of(v, gone.Name), Decision: r.References}); err != nil {
			return err
		}
	}
	dev, err := p.Stage.Open(ctx, n.Name)
	if err != nil {
		return err
	}
	fresh, err := schemes.New(dev, schemes.Wanted{Scheme: r.Scheme, Entries: r.Entries, Step: p.Config.Step(n.Geometry), ID: p.Fresh()})
	if err != nil {
		return fmt.Errorf("%s: %w", n.Name, err)
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
	if err := p.PutAnew(ctx, n, fresh, gone); err != nil {
		return err
	}
	newTableFacts(p, n, fresh.Model())
	return p.Stage.TellKernel(ctx, n.Name)
}

// newTableFacts says what the table can hold.
func newTableFacts(p *task.Planner, n inventory.Node, m *table.Table) {
	_, size, _ := m.Bytes(m.Usable)
	p.Details(fs.Fact{
		Name:  "usable",
		Value: fmt.Sprintf("sectors %d to %d of %d bytes = %v", m.Usable.Start, m.Usable.End()-1, m.Sector, size),
	},
		fs.Fact{Name: "alignment", Value: fmt.Sprintf("partitions start on multiples of %v", p.Config.Step(n.Geometry))})
	if m.Scheme == table.GPT {
		p.Details(fs.Fact{Name: "disk GUID", Value: m.ID})
		if m.Slots != gpt.DefaultEntries {
			p.Details(fs.Fact{
				Name:  "entries",
				Value: fmt.Sprintf("%d, of which Linux has devices for the first %d", m.Slots, table.HighestNumber),
			})
		}
		return
	}
	p.Details(fs.Fact{Name: "signature", Value: m.ID},
		fs.Fact{Name: "entries", Value: "four; one of them may be extended and hold logical partitions"})
	if behind := n.Size - quantity.Bytes(m.Usable.End())*m.Sector; behind > 0 {
		p.Warn("an MBR reaches %v: %v of the disk can never be used; --scheme gpt has no such limit", n.Size-behind, behind)
	}
}

// TableRepair writes both copies of a GPT anew from the good one.
type TableRepair struct {
	Disk string `json:"disk"`
}

// Verb of the request.
func (*TableRepair) Verb() string { return "table repair" }

// Devices implements task.About.
func (r *TableRepair) Devices() []string { return []string{r.Disk} }

func (r *TableRepair) Plan(ctx context.Context, p *task.Planner) error {
	_, n, err := p.Disk(ctx, r.Disk)
	if err != nil {
		return err
	}
	p.Title("repair the table of %s", n.Name)
	good, state, err := readTable(ctx, p, n)
	if err != nil {
		return err
	}
	if len(gpt.Check(n.Name, state)) == 0 {
		p.Note("both copies of the GPT on %s are good", n.Name)
		return nil
	}
	if state.Protective == gpt.OtherTable {
		return way.To(fmt.Errorf("%s: %w: Linux uses its MBR, and the GPT after it is from another time", n.Name,
			target.ErrNoTable), way.TableRepair(n.Name, "--search"))
	}
	p.Facts(fs.Fact{Name: "good copy", Value: fmt.Sprintf("the one at sector %d", good.MyLBA)})
	fixed := good.Edit(quantity.Bytes(n.Geometry.Logical))
	if err := fixed.Rebuild(state.Sectors); err != nil {
		return fmt.Errorf("%s: %w", n.Name, err)
	}
	return p.Change(ctx, n, fixed)
}

// readTable gives the copy of a GPT that is to be believed.
func readTable(ctx context.Context, p *task.Planner, n inventory.Node) (*gpt.Table, *gpt.State, error) {
	dev, err := p.Stage.Open(ctx, n.Name)
	if err != nil {
		return nil, nil, err
	}
	state, err := gpt.Read(dev)
	if errors.Is(err, gpt.ErrNone) {
		if n.Table != nil {
			return nil, nil, fmt.Errorf("%s: %w: it has an %s, which has one copy only", n.Name, target.ErrNoTable, n.Table.Scheme.Name())
		}
		v, err := p.Now(ctx)
		if err != nil {
			return nil, nil, err
		}
		return nil, nil, target.NoTable(v, n)
	}
	if err != nil {
		return nil, nil, err
	}
	good := cmp.Or(state.Good(), state.Cut)
	if good == nil {
		return nil, nil, way.To(fmt.Errorf("%s: neither copy of its GPT is good: primary: %w; backup: %w", n.Name,
			state.PrimaryErr, state.BackupErr), way.TableRepair(n.Name, "--search"))
	}
	return good, state, nil
}
