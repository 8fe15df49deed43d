package disk

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"slices"

	"github.com/google/uuid"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/refs"
	"fundus/core/table"
	"fundus/core/table/gpt"
	"fundus/core/table/saved"
	"fundus/core/table/schemes"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/task"
)

// TableRestore writes a saved table onto the disk that it is from, or with new
// identifiers onto another one.
type TableRestore struct {
	Disk  string         `json:"disk"`
	Saved saved.Document `json:"saved"`
	// References decides about lines of fstab that name what goes: drop, disable or keep.
	References string `json:"references,omitempty"`
}

// Verb of the request.
func (*TableRestore) Verb() string { return "table restore" }

// Devices implements task.About.
func (r *TableRestore) Devices() []string { return []string{r.Disk} }

func (r *TableRestore) Plan(ctx context.Context, p *task.Planner) error {
	v, n, err := p.Disk(ctx, r.Disk)
	if err != nil {
		return err
	}
	p.Results(draft.RoleTable, n.Name)
	d := r.Saved
	p.Title("restore the saved table of %s", n.Name)
	if d.Disk.Sector != quantity.Bytes(n.Geometry.Logical) {
		return fmt.Errorf("%s: %w: it counts sectors of %d bytes, the disk has sectors of %d", n.Name,
			saved.ErrDocument, d.Disk.Sector, n.Geometry.Logical)
	}
	if d.Disk.Size > n.Size {
		return fmt.Errorf("%s: %w: it is for a disk of %v (%d bytes), this one has %v (%d bytes)", n.Name,
			saved.ErrDocument, d.Disk.Size, d.Disk.Size, n.Size, n.Size)
	}
	same := d.Disk.Identity == n.Identity.Disk && d.Disk.Size == n.Size
	if !same {
		p.Note("it is from another disk (%s): the table and its partitions get new identifiers", d.Disk.Identity)
	}
	fresh, err := restored(ctx, p, n, d, same)
	if err != nil {
		return machine.About(n.Name, err)
	}
	if err := replace(ctx, p, v, n, fresh, r.References); err != nil {
		return err
	}
	if n.Table != nil {
		if err := follow(ctx, p, v, n, n.Table, fresh.Model()); err != nil {
			return err
		}
	}
	return p.Stage.TellKernel(ctx, n.Name)
}

// restored is the table that the document describes.
func restored(ctx context.Context, p *task.Planner, n inventory.Node, d saved.Document, same bool) (table.Editor, error) {
	dev, err := p.Stage.Open(ctx, n.Name)
	if err != nil {
		return nil, err
	}
	w := schemes.Wanted{Scheme: d.Scheme, Step: p.Config.Step(n.Geometry), ID: p.Fresh()}
	if d.Scheme == table.GPT {
		w.Entries = max(d.Entries, gpt.DefaultEntries)
	}
	if same {
		if w.ID, err = tableID(d); err != nil {
			return nil, err
		}
	}
	t, err := schemes.New(dev, w)
	if err != nil {
		return nil, err
	}
	if same {
		return t, d.Fill(t, nil)
	}
	return t, d.Fill(t, p.Fresh)
}

// tableID is the identifier of the saved table; an MBR's is the first 32 bits.
func tableID(d saved.Document) (id uuid.UUID, err error) {
	if d.Scheme == table.GPT {
		id, err = uuid.Parse(d.ID)
	} else {
		var b []byte
		if b, err = hex.DecodeString(d.ID); err == nil && len(b) == 4 {
			binary.BigEndian.PutUint32(id[:], binary.BigEndian.Uint32(b))
		} else {
			err = fmt.Errorf("disk signature %q", d.ID)
		}
	}
	if err != nil {
		return id, fmt.Errorf("%w: %w", saved.ErrDocument, err)
	}
	return id, nil
}

// replace writes a table in place of whatever the disk has. Partitions that both
// have stay as they are; what is on the others is lost from view. What lies under
// new ones is kept: they are made for it.
func replace(ctx context.Context, p *task.Planner, v *inventory.Inventory, n inventory.Node, fresh table.Editor, references string) error {
	if err := task.CheckDecision(references, false); err != nil {
		return err
	}
	now := fresh.Model()
	for _, part := range v.Parts(n.Name) {
		stays := slices.ContainsFunc(now.Parts, func(o table.Partition) bool { return o.Number == part.Number && o.Span == part.Entry.Span })
		if stays {
			continue
		}
		if err := task.Free(v, part); err != nil {
			return err
		}
		if slices.ContainsFunc(now.Parts, func(o table.Partition) bool { return o.Span == part.Entry.Span }) {
			continue // it gets another number
		}
		if err := p.Lose(ctx, v, part); err != nil {
			return err
		}
		if err := p.Leave(ctx, v, task.Leaving{Node: part, Lines: refs.Of(v, part.Name), Decision: references}); err != nil {
			return err
		}
	}
	var bare []fs.Content
	for _, c := range n.Contents {
		if c.Class != fs.Table {
			bare = append(bare, c)
		}
	}
	if len(bare) > 0 {
		if err := p.Lose(ctx, v, n); err != nil {
			return err
		}
	}
	for _, part := range now.Parts {
		start, size, _ := now.Bytes(part.Span)
		known := slices.ContainsFunc(v.Parts(n.Name), func(o inventory.Node) bool { return o.Entry.Span == part.Span })
		if under, err := p.Under(ctx, n, start, size); err == nil && len(under.Contents) > 0 && !known && part.Role != table.Extended {
			p.Note("partition %d begins with %s and keeps it", part.Number, under.Contents[0].Words())
		}
	}
	return p.PutAnew(ctx, n, fresh, bare)
}
