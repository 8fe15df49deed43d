package space

import (
	"cmp"
	"context"
	"errors"
	"fmt"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/table"
	"fundus/core/table/place"
	"fundus/core/target"
	"fundus/internal/machine"
	"fundus/internal/task"
)

// Resize gives a partition another size in the table, and nothing else.
type Resize struct {
	Target string        `json:"target"`
	Size   quantity.Size `json:"size,omitzero"` // or max
	By     string        `json:"by,omitempty"`  // "+4GiB", "-10%"
}

// Verb of the request.
func (*Resize) Verb() string { return "resize" }

// ErrNeeded is a size that would cut into what is there.
var ErrNeeded = errors.New("smaller than what it holds")

func (r *Resize) Plan(ctx context.Context, p *task.Planner) error {
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	n, err := target.Partition(v, r.Target)
	if err != nil {
		return err
	}
	disk, _ := v.Node(n.Parent)
	t, err := p.Editor(ctx, disk)
	if err != nil {
		return err
	}
	m := t.Model()
	part, _ := m.Part(n.Number)
	behind := place.Behind(m, part)
	most, _ := quantity.Count(part.Span.Count + behind.Count).Times(m.Sector)
	size, note, err := place.Resized{Size: r.Size, By: r.By}.Bytes(n.Start, n.Size, most, m.Sector, p.Config.Step(n.Geometry))
	if err != nil {
		return machine.About(n.Name, err)
	}
	if note != "" {
		p.Note("%s", note)
	}
	p.Title("resize partition %d of %s to %v", n.Number, disk.Name, size)
	if size > most {
		return fmt.Errorf("%s: %w: it has %v (%d bytes), and behind it are %v free: at most %v (%d bytes)%s", n.Name, table.ErrNoRoom, n.Size, n.Size, most-n.Size, most, most, barrier(v, n, most))
	}
	if err := enough(ctx, p, n, size); err != nil {
		return err
	}
	now := part
	now.Span.Count = uint64(size / m.Sector)
	if now.Span == part.Span {
		return nil
	}
	if err := t.Set(n.Number, now); err != nil {
		return machine.About(disk.Name, err)
	}
	p.Details(fs.Fact{Name: "sectors", Value: fmt.Sprintf("%v becomes %v: %d × %d bytes = %v (%s)", part.Span, now.Span, now.Span.Count, m.Sector, size, size.SI())})
	if c, ok := n.Content(); ok && c.Class == fs.FileSystem && size > n.Size {
		p.Note("the %s in it keeps its size of %v until it is made larger itself", c.Kind, c.Size)
	}
	return p.Change(ctx, disk, t)
}

// barrier says which partition begins where the room ends.
func barrier(v *inventory.Inventory, n inventory.Node, most quantity.Bytes) string {
	for _, o := range v.Parts(n.Parent) {
		if o.Start == n.Start+most && o.Name != n.Name {
			return fmt.Sprintf("; there begins %s (%s)", o.Name, cmp.Or(o.Holds(), "empty"))
		}
	}
	return ""
}

// enough refuses a size that cuts off something, or that nobody knows to be enough.
func enough(ctx context.Context, p *task.Planner, n inventory.Node, size quantity.Bytes) error {
	if size >= n.Size || n.Entry.Role == table.Extended { // what lies in that is looked at by the table
		return nil
	}
	if n.Problem != "" {
		return fmt.Errorf("%s: %w: it cannot be read (%s), so nobody knows how much it needs", n.Name, ErrNeeded, n.Problem)
	}
	for _, c := range n.Contents {
		switch {
		case c.Size == 0:
			return fmt.Errorf("%s: %w: the %s in it does not say how large it is", n.Name, ErrNeeded, c.Kind)
		case c.Size > size:
			return fmt.Errorf("%s: %w: the %s in it has %v (%d bytes), %v (%d bytes) would be left, and this release cannot make it smaller", n.Name, ErrNeeded, c.Kind, c.Size, c.Size, size, size)
		}
	}
	if len(n.Contents) > 0 {
		return nil
	}
	loss, err := p.LossOf(ctx, n)
	if loss != nil {
		return fmt.Errorf("%s: %w: it holds %s, and nobody knows how much that needs", n.Name, ErrNeeded, loss.What)
	}
	return err
}
