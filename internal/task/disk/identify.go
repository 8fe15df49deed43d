package disk

import (
	"context"
	"fmt"
	"strings"

	"fundus/core/fs"
	"fundus/core/table"
	"fundus/core/target"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/task"
)

// TableEdit gives a table another identifier: that of the disk, which a copy of it has too.
type TableEdit struct {
	Disk string `json:"disk"`
	UUID string `json:"uuid"` // a GUID, of an MBR eight hexadecimal digits; "new" for a random one
}

// Verb of the request.
func (*TableEdit) Verb() string { return "table edit" }

// Devices implements task.About.
func (r *TableEdit) Devices() []string { return []string{r.Disk} }

// Plan changes the identifier. The PARTUUIDs of an MBR are made of it, so that lines that name
// its partitions follow; those of a GPT are its partitions' own.
func (r *TableEdit) Plan(ctx context.Context, p *task.Planner) error {
	v, n, err := p.Disk(ctx, r.Disk)
	if err != nil {
		return err
	}
	if n.Table == nil {
		return target.NoTable(v, n)
	}
	t, err := p.Editor(ctx, n)
	if err != nil {
		return err
	}
	p.Results(draft.RoleTable, n.Name)
	was := t.Model()
	id := strings.ToLower(r.UUID)
	if id == "new" {
		if id = p.Fresh().String(); was.Scheme == table.MBR {
			id, _, _ = strings.Cut(id, "-")
		}
	}
	p.Title("give the %s of %s another identifier", was.Scheme.Name(), n.Name)
	if strings.EqualFold(id, was.ID) {
		return nil
	}
	for _, d := range v.Disks() {
		if d.Name != n.Name && d.Table != nil && strings.EqualFold(d.Table.ID, id) {
			return fmt.Errorf("--uuid=%s: %w: %s has it", r.UUID, table.ErrValue, d.Name)
		}
	}
	if err := t.SetID(id); err != nil {
		return machine.About(n.Name, err)
	}
	p.Facts(fs.Fact{Name: "identifier", Value: fmt.Sprintf("%s becomes %s", was.ID, t.Model().ID)})
	if err := follow(ctx, p, v, n, was, t.Model()); err != nil {
		return err
	}
	if was.Scheme == table.GPT && len(was.Parts) > 0 {
		p.Note("its partitions keep their PARTUUIDs; fundus partition edit gives one another: --uuid=new")
	}
	return p.Change(ctx, n, t)
}
