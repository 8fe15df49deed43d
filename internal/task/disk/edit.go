package disk

import (
	"context"
	"fmt"
	"strings"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/scan"
	"fundus/core/table"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/task"
)

// PartitionEdit changes what a table says of a partition beside its place.
type PartitionEdit struct {
	Target string   `json:"target"`
	Type   string   `json:"type,omitempty"`
	Name   *string  `json:"name,omitempty"`
	Set    []string `json:"set,omitempty"`   // attributes
	Clear  []string `json:"clear,omitempty"` // attributes
	Number int      `json:"number,omitempty"`
	UUID   string   `json:"uuid,omitempty"` // PARTUUID; "new" for a random one
}

// Verb of the request.
func (*PartitionEdit) Verb() string { return "partition edit" }

// Devices implements task.About.
func (r *PartitionEdit) Devices() []string { return []string{r.Target} }

func (r *PartitionEdit) Plan(ctx context.Context, p *task.Planner) error {
	v, n, err := p.Partition(ctx, r.Target)
	if err != nil {
		return err
	}
	disk, _ := v.Node(n.Parent)
	p.Title("edit partition %d of %s", n.Number, disk.Name)
	t, err := p.Editor(ctx, disk)
	if err != nil {
		return err
	}
	was, _ := t.Model().Part(n.Number)
	now, err := r.wanted(ctx, p, t.Model(), was)
	if err != nil {
		return machine.About(n.Name, err)
	}
	if now.Number != was.Number { // the kernel forgets it and takes it up anew
		if err := task.Free(v, n); err != nil {
			return err
		}
	}
	before := t.Model()
	name, _ := scan.Name(disk, now.Number)
	p.Results(draft.RolePartition, name)
	if err := t.Set(n.Number, now); err != nil {
		return machine.About(disk.Name, err)
	}
	sayEdited(p, before, was, now)
	if now.UUID != was.UUID && !v.Imaged(n) {
		if err := p.Rename(ctx, v, n, "PARTUUID="+was.UUID, "PARTUUID="+now.UUID); err != nil {
			return err
		}
	}
	if now.Name != was.Name && was.Name != "" && now.Name != "" && !v.Imaged(n) {
		if err := p.Rename(ctx, v, n, "PARTLABEL="+was.Name, "PARTLABEL="+now.Name); err != nil {
			return err
		}
	}
	if err := renumbered(ctx, p, v, disk, before, t.Model(), ""); err != nil {
		return err
	}
	return p.Change(ctx, disk, t)
}

// wanted is the partition as it is to be.
func (r *PartitionEdit) wanted(ctx context.Context, p *task.Planner, m *table.Table, now table.Partition) (table.Partition, error) {
	var err error
	if r.Type != "" {
		if now.Type, err = table.ParseType(m.Scheme, r.Type); err != nil {
			return now, err
		}
	}
	if r.Name != nil {
		now.Name = *r.Name
	}
	for _, word := range r.Set {
		bit, err := table.ParseAttribute(m.Scheme, word)
		if err != nil {
			return now, err
		}
		now.Attributes |= bit
	}
	for _, word := range r.Clear {
		bit, err := table.ParseAttribute(m.Scheme, word)
		if err != nil {
			return now, err
		}
		now.Attributes &^= bit
	}
	if r.Number != 0 {
		now.Number = r.Number
	}
	switch r.UUID {
	case "":
	case "new":
		now.UUID, err = partUUID(ctx, p, m, p.Fresh().String())
	default:
		if !strings.EqualFold(r.UUID, now.UUID) {
			now.UUID, err = partUUID(ctx, p, m, r.UUID)
		}
	}
	return now, err
}

// sayEdited lists what changes, from and to.
func sayEdited(p *task.Planner, m *table.Table, was, now table.Partition) {
	say := func(name, from, to string) {
		if from != to {
			p.Facts(fs.Fact{Name: name, Value: fmt.Sprintf("%s becomes %s", from, to)})
		}
	}
	say("type", table.TypeWords(m, was.Type), table.TypeWords(m, now.Type))
	say("name", fmt.Sprintf("%q", was.Name), fmt.Sprintf("%q", now.Name))
	say("attributes", table.AttributeWords(m.Scheme, was.Attributes), table.AttributeWords(m.Scheme, now.Attributes))
	say("PARTUUID", was.UUID, now.UUID)
}

// path is the device of a partition of the disk.
func path(p *task.Planner, disk inventory.Node, number int) string {
	_, path := scan.Name(disk, number)
	return path
}
