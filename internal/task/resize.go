package task

import (
	"context"
	"errors"
	"fmt"

	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/table"
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

func (r *Resize) Plan(ctx context.Context, p *Planner) error {
	v, err := p.now(ctx)
	if err != nil {
		return err
	}
	n, err := p.partition(v, r.Target)
	if err != nil {
		return err
	}
	disk, _ := v.Node(n.Parent)
	t, err := p.editor(ctx, disk)
	if err != nil {
		return err
	}
	m := t.Model()
	part, _ := m.Part(n.Number)
	behind := room(m, part)
	most, _ := quantity.Count(part.Span.Count + behind.Count).Times(m.Sector)
	size, err := r.size(p, n, m.Sector, most)
	if err != nil {
		return about(n, err)
	}
	p.title("resize partition %d of %s to %v", n.Number, disk.Name, size)
	if size > most {
		return fmt.Errorf("%s: %w: it has %v (%d bytes), and behind it are %v free: at most %v (%d bytes)", n.Name, table.ErrNoRoom, n.Size, n.Size, most-n.Size, most, most)
	}
	if err := p.enough(ctx, n, size); err != nil {
		return err
	}
	now := part
	now.Span.Count = uint64(size / m.Sector)
	if now.Span == part.Span {
		return nil
	}
	if err := t.Set(n.Number, now); err != nil {
		return about(disk, err)
	}
	p.facts(fs.Fact{Name: "sectors", Value: fmt.Sprintf("%v becomes %v: %d × %d bytes = %v (%s)", part.Span, now.Span, now.Span.Count, m.Sector, size, size.SI())})
	if c, ok := n.Content(); ok && c.Class == fs.FileSystem && size > n.Size {
		p.note("the %s in it keeps its size of %v until it is made larger itself", c.Kind, c.Size)
	}
	return p.change(ctx, disk, t)
}

// room is the gap right behind the partition.
func room(m *table.Table, part table.Partition) extent.Span {
	for _, gap := range m.Gaps() {
		if gap.Start == part.Span.End() && m.Inside(gap) == (part.Role == table.Logical) {
			return gap
		}
	}
	return extent.Span{Start: part.Span.End()}
}

// size is what was asked for in bytes, and says every rounding.
func (r *Resize) size(p *Planner, n inventory.Node, sector, most quantity.Bytes) (quantity.Bytes, error) {
	s := step(p.Config, n)
	size := most
	switch {
	case r.By != "":
		grow, amount, err := quantity.ParseChange(r.By)
		if err != nil {
			return 0, err
		}
		by, err := amount.Resolve(sector, n.Size)
		if err != nil {
			return 0, err
		}
		if !grow {
			by = -by
		}
		size = n.Size + by
	case r.Size.Form == quantity.Max:
	default:
		var err error
		if size, err = r.Size.Resolve(sector, n.Size); err != nil {
			return 0, err
		}
	}
	if size <= 0 {
		return 0, fmt.Errorf("%d bytes: %w: a partition has at least a sector", size, table.ErrPlace)
	}
	rounded, ok := size.Up(s)
	if !ok || rounded > most && size <= most { // the last step of a disk may be a short one
		rounded = size / sector * sector
		if down := (n.Start + most) / s * s; down > n.Start && r.Size.Form == quantity.Max {
			rounded = down - n.Start
		}
	}
	if rounded != size {
		p.note("%d bytes rounded to %v (%d bytes), for the alignment step of %v", size, rounded, rounded, s)
	}
	return rounded, nil
}

// enough refuses a size that cuts off something, or that nobody knows to be enough.
func (p *Planner) enough(ctx context.Context, n inventory.Node, size quantity.Bytes) error {
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
			return fmt.Errorf("%s: %w: the %s in it has %v (%d bytes), %v (%d bytes) would be left; make it smaller first", n.Name, ErrNeeded, c.Kind, c.Size, c.Size, size, size)
		}
	}
	if len(n.Contents) > 0 {
		return nil
	}
	loss, err := p.lossOf(ctx, n)
	if loss != nil {
		return fmt.Errorf("%s: %w: it holds %s, and nobody knows how much that needs", n.Name, ErrNeeded, loss.What)
	}
	return err
}
