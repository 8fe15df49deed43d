package disk

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/refs"
	"fundus/core/table"
	"fundus/core/target"
	"fundus/internal/machine"
	"fundus/internal/task"
)

// PartitionRemove takes partitions out of their table. Their bytes stay.
type PartitionRemove struct {
	Targets    []string `json:"targets"`
	References string   `json:"references,omitempty"` // drop, disable, or keep: lines of fstab that name them
	IfThere    bool     `json:"if_there,omitempty"`   // one that is not there is nothing to do
}

// Verb of the request.
func (*PartitionRemove) Verb() string { return "partition remove" }

// Devices implements task.About.
func (r *PartitionRemove) Devices() []string { return r.Targets }

func (r *PartitionRemove) Plan(ctx context.Context, p *task.Planner) error {
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	if err := task.CheckDecision(r.References, false); err != nil {
		return err
	}
	var nodes []inventory.Node
	for _, word := range r.Targets {
		n, err := target.Partition(v, word)
		if errors.Is(err, target.ErrNoTarget) && target.Gone(v, word) && r.IfThere {
			p.Note("%s is not there", word)
			continue
		}
		if err != nil {
			return err
		}
		if i := slices.IndexFunc(nodes, func(o inventory.Node) bool { return o.Parent != n.Parent || o.Name == n.Name }); i >= 0 {
			return fmt.Errorf("%s and %s: name partitions of one disk, each once", nodes[i].Name, n.Name)
		}
		nodes = append(nodes, n)
	}
	p.Title("remove %s", strings.Join(r.Targets, ", "))
	if len(nodes) == 0 {
		return nil
	}
	disk, _ := v.Node(nodes[0].Parent)
	p.Stands(disk.Name)
	// From the highest number on: then those that are still to be removed keep theirs.
	slices.SortFunc(nodes, func(a, b inventory.Node) int { return b.Number - a.Number })
	t, err := p.Editor(ctx, disk)
	if err != nil {
		return err
	}
	before := t.Model()
	if v, err = givenUp(ctx, p, v, nodes); err != nil {
		return err
	}
	var words []string
	for _, n := range nodes {
		if err := task.Free(v, n); err != nil {
			return err
		}
		if err := p.Lose(ctx, v, n); err != nil {
			return err
		}
		words = append(words, fmt.Sprint(n.Number))
	}
	slices.Reverse(words)
	p.Title("remove %s of %s", numbered(words), disk.Name)
	for _, n := range nodes {
		if err := p.Leave(ctx, v, task.Leaving{Node: n, Lines: refs.Of(v, n.Name), Decision: r.References}); err != nil {
			return err
		}
		if err := t.Remove(n.Number); err != nil {
			return machine.About(disk.Name, err)
		}
	}
	p.Note("the bytes stay where they are until something else is written there")
	if err := renumbered(ctx, p, v, disk, before, t.Model(), r.References); err != nil {
		return err
	}
	return p.Change(ctx, disk, t)
}

// givenUp stops using as swap what is removed; the machine as it would be then.
func givenUp(ctx context.Context, p *task.Planner, v *inventory.Inventory, nodes []inventory.Node) (*inventory.Inventory, error) {
	for _, n := range nodes {
		a, is, err := machine.GiveUp(v, n)
		if is && err == nil {
			p.Note("%s is turned off as swap first", n.Name)
			err = p.Stage.Tell(ctx, a)
		}
		if err != nil {
			return nil, err
		}
		if v, err = p.Now(ctx); err != nil {
			return nil, err
		}
	}
	return v, nil
}

// renumbered says which partitions get another number, refuses where one of them is
// in use, and lets every text file follow.
func renumbered(ctx context.Context, p *task.Planner, v *inventory.Inventory, disk inventory.Node, before, after *table.Table, decision string) error {
	type change struct{ old, new table.Partition }
	var changes []change
	for _, now := range after.Parts {
		i := slices.IndexFunc(before.Parts, func(o table.Partition) bool { return o.Span == now.Span && o.Role == now.Role })
		if i >= 0 && before.Parts[i].Number != now.Number {
			changes = append(changes, change{before.Parts[i], now})
		}
	}
	if len(changes) == 0 {
		return nil
	}
	for _, c := range changes {
		n, _ := v.Node(nameOf(v, disk, c.old.Number))
		if err := task.Free(v, n); err != nil {
			return fmt.Errorf("partition %d would become %d: %w", c.old.Number, c.new.Number, err)
		}
	}
	if decision == task.Keep {
		return fmt.Errorf("%s: --references=keep: lines that name what goes would then mean partition %d, which takes its number; use drop or disable",
			disk.Name, changes[0].new.Number)
	}
	for _, c := range changes { // upwards: the number that is taken is free by then
		words := fmt.Sprintf("partition %d becomes %d", c.old.Number, c.new.Number)
		if c.old.UUID != c.new.UUID {
			words += fmt.Sprintf(", PARTUUID %s becomes %s", c.old.UUID, c.new.UUID)
		}
		p.Facts(fs.Fact{Name: "renumbered", Value: words})
		if disk.Form == inventory.Image {
			continue
		}
		for _, pair := range [][2]string{
			{"PARTUUID=" + c.old.UUID, "PARTUUID=" + c.new.UUID},
			{path(p, disk, c.old.Number), path(p, disk, c.new.Number)},
		} {
			if pair[0] != pair[1] {
				if err := p.Rewrite(ctx, pair[0], pair[1]); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func nameOf(v *inventory.Inventory, disk inventory.Node, number int) string {
	for _, n := range v.Parts(disk.Name) {
		if n.Number == number {
			return n.Name
		}
	}
	return ""
}
