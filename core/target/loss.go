package target

import (
	"cmp"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"fundus/core/advice"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/table"
	"fundus/core/way"
)

// ErrUnread is what belongs to more than one device, and is not read: what would be lost with
// one of them cannot be told, so none is lost.
var ErrUnread = errors.New("which this release does not read: what would be lost with it cannot be told")

// Loss is one thing that is destroyed.
type Loss struct {
	Node   string   // "sdb1"
	What   string   // "ext4 herbarium, 20.0 GiB"
	Name   string   // what must be typed
	Accept []string // other words that will do
}

// LossOf says what is on the node; nil where nothing is. Bytes that no probe
// recognises count as something. Errors: ErrUnread.
func LossOf(v *inventory.Inventory, n inventory.Node) (*Loss, error) {
	for _, c := range n.Contents {
		if c.Unread != "" {
			return nil, way.To(fmt.Errorf("%s: it is a member of %s, %w", n.Name, c.Unread, ErrUnread), way.Inspect(n.Disk()))
		}
	}
	if n.Entry.Role == table.Extended || n.Entry.Number > 0 && n.Entry.Span.Count == 0 {
		return nil, nil // the chain in it is a part of the table; an entry without sectors holds nothing
	}
	loss := &Loss{Node: n.Name, Name: lastFour(n.Hardware.Serial), Accept: []string{n.Hardware.Serial, lastFour(n.Hardware.Serial)}}
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
	if within := within(v, n); within != nil {
		loss.What = strings.TrimPrefix(loss.What+" and part of "+within.Words()+" on the whole of "+n.Parent, " and ")
		loss.Name = cmp.Or(within.Label, loss.Name)
		loss.Accept = append(loss.Accept, within.Label, within.UUID)
		return loss, nil
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
func within(v *inventory.Inventory, n inventory.Node) *fs.Content {
	if n.Within == "" {
		return nil
	}
	disk, _ := v.Node(n.Parent)
	c, ok := disk.Content()
	if !ok {
		return nil
	}
	return &c
}

func lastFour(serial string) string {
	if len(serial) <= 4 {
		return serial
	}
	return serial[len(serial)-4:]
}

// Lose is what is typed to have the device destroyed; empty where nothing on it would be lost, or
// where it cannot be told what would be.
func Lose(v *inventory.Inventory, n inventory.Node) string {
	if loss, err := LossOf(v, n); err == nil && loss != nil {
		return loss.Name
	}
	return ""
}
