package task

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"fundus/core/advice"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/table"
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
	return advice.Way(fmt.Errorf("%s is fenced by deed %d (%s), which was cut short and can still bring back what was there", n.Name, d.Number, d.Title), "fundus recover %d", d.Number)
}

// ErrUnread is what belongs to more than one device, and is not read: what would be lost with
// one of them cannot be told, so none is lost.
var ErrUnread = errors.New("which this release does not read: what would be lost with it cannot be told")

// LossOf says what is on the node; nil where nothing is. Bytes that no probe
// recognises count as something. Errors: ErrUnread.
func (p *Planner) LossOf(ctx context.Context, n inventory.Node) (*draft.Loss, error) {
	for _, c := range n.Contents {
		if c.Unread != "" {
			return nil, advice.Way(fmt.Errorf("%s: it is a member of %s, %w", n.Name, c.Unread, ErrUnread), "fundus inspect %s", n.Disk())
		}
	}
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
			loss.What = advice.Holds(n) + ", " + loss.What
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
		if c.State == fs.Asleep {
			loss.What += " and the system that sleeps in it"
		}
		loss.Accept = append(loss.Accept, c.UUID)
		if c.Label != "" {
			loss.Name = c.Label
			loss.Accept = append(loss.Accept, c.Label)
		}
	}
	if within, err := p.within(ctx, n); err != nil || within != nil {
		if within != nil {
			loss.What = strings.TrimPrefix(loss.What+" and part of "+within.Words()+" on the whole of "+n.Parent, " and ")
			loss.Name = cmp.Or(within.Label, loss.Name)
			loss.Accept = append(loss.Accept, within.Label, within.UUID)
		}
		return loss, err
	}
	if loss.What != "" {
		return loss, nil
	}
	if n.Table != nil {
		return nil, nil // what matters are its partitions
	}
	if n.Zeros {
		return nil, nil
	}
	loss.What = "data that is not recognised"
	return loss, nil
}

// within is a volume on the whole disk, of which the partition is a part.
func (p *Planner) within(ctx context.Context, n inventory.Node) (*fs.Content, error) {
	if n.Within == "" {
		return nil, nil
	}
	v, err := p.Now(ctx)
	if err != nil {
		return nil, err
	}
	disk, _ := v.Node(n.Parent)
	c, ok := disk.Content()
	if !ok {
		return nil, nil
	}
	return &c, nil
}

func lastFour(serial string) string {
	if len(serial) <= 4 {
		return serial
	}
	return serial[len(serial)-4:]
}
