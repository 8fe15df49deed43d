package task

import (
	"context"
	"path/filepath"
	"strings"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/table"
	"fundus/internal/draft"
	"fundus/internal/machine"
)

// Lose records what is destroyed on the node and, for a disk, on each of its
// partitions.
func (p *Planner) Lose(ctx context.Context, v *inventory.Inventory, n inventory.Node) error {
	nodes := []inventory.Node{n}
	if n.Parent == "" {
		nodes = v.Family(n.Name)
	}
	for _, each := range nodes {
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

// LossOf says what is on the node; nil where nothing is. Bytes that no probe
// recognises count as something.
func (p *Planner) LossOf(ctx context.Context, n inventory.Node) (*draft.Loss, error) {
	if n.Entry.Role == table.Extended || n.Entry.Number > 0 && n.Entry.Span.Count == 0 {
		return nil, nil // the chain in it is a part of the table; an entry without sectors holds nothing
	}
	loss := &draft.Loss{Node: n.Name, Name: lastFour(n.Hardware.Serial), Accept: []string{n.Hardware.Serial, lastFour(n.Hardware.Serial)}}
	if n.Form == inventory.Image || n.Hardware.Bus == "image" {
		path := n.Path
		if n.Parent != "" {
			path = n.Parent
		}
		loss.Name = filepath.Base(path)
		loss.Accept = []string{loss.Name, path}
	}
	if loss.Name == "" {
		loss.Name = strings.ReplaceAll(n.Name, " ", "-")
	}
	if n.Problem != "" {
		loss.What = "unreadable: " + n.Problem
		if len(n.Contents) > 0 {
			loss.What = n.Holds() + ", " + loss.What
		}
		return loss, nil
	}
	for _, c := range n.Contents {
		if c.Class == fs.Table {
			continue
		}
		if loss.What != "" {
			loss.What += " and "
		}
		loss.What += c.Words()
		loss.Accept = append(loss.Accept, c.UUID)
		if c.Label != "" {
			loss.Name = c.Label
			loss.Accept = append(loss.Accept, c.Label)
		}
	}
	if loss.What != "" {
		return loss, nil
	}
	if n.Table != nil {
		return nil, nil // what matters are its partitions
	}
	empty, err := p.empty(ctx, n)
	if err != nil || empty {
		return nil, err
	}
	loss.What = "data that is not recognised"
	return loss, nil
}

// empty looks at the first and the last MiB.
func (p *Planner) empty(ctx context.Context, n inventory.Node) (bool, error) {
	t := machine.Whole(n, machine.HoldTable)
	o, err := p.Stage.Open(ctx, t.Disk)
	if err != nil {
		return false, err
	}
	const look = 1 << 20
	first := min(int64(n.Size), look)
	for _, at := range []int64{0, int64(n.Size) - first} {
		if block.KnownZero(o, int64(t.Start)+at, first) {
			continue
		}
		b, err := block.ReadSized(o, int64(t.Start)+at, first, look)
		if err != nil {
			return false, err
		}
		if !block.IsZero(b) {
			return false, nil
		}
	}
	return true, nil
}

func lastFour(serial string) string {
	if len(serial) <= 4 {
		return serial
	}
	return serial[len(serial)-4:]
}
