package task

import (
	"context"
	"fmt"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/refused"
	"fundus/core/target"
	"fundus/core/way"
	"fundus/internal/deed"
	"fundus/internal/draft"
)

// Lose records what is destroyed on the node and, for a disk, on each of its
// partitions.
func (p *Planner) Lose(ctx context.Context, v *inventory.Inventory, n inventory.Node) error {
	nodes := []inventory.Node{n}
	if n.Parent == "" {
		nodes = v.Family(n.Name)
	}
	for _, each := range nodes {
		if err := p.unfenced(each); err != nil {
			return err
		}
		loss, err := p.LossOf(ctx, each)
		if err != nil {
			return err
		}
		if loss != nil {
			p.Draft.Losses = append(p.Draft.Losses, *loss)
		}
	}
	return nil
}

// unfenced refuses to lose what a deed that was cut short can bring back: it is ended
// first. A fence of which no deed is known here, or whose record is damaged, is no more
// than what stands there.
func (p *Planner) unfenced(n inventory.Node) error {
	c, ok := n.Content()
	if !ok || c.Class != fs.Fence || p.Store == nil {
		return nil
	}
	d, err := p.Store.Find(c.UUID)
	if err != nil || d.Problem != nil || d.State != deed.Unfinished {
		return nil
	}
	return way.To(refused.As(refused.Fenced, fmt.Errorf("%s is fenced by deed %d (%s), which was cut short and can still bring back what was there",
		n.Name, d.Number, d.Title)), way.Recover(way.N(d.Number)))
}

// LossOf says what is on the node; nil where nothing is. Errors: target.ErrUnread.
func (p *Planner) LossOf(ctx context.Context, n inventory.Node) (*draft.Loss, error) {
	v, err := p.Now(ctx)
	if err != nil {
		return nil, err
	}
	return target.LossOf(v, n)
}
