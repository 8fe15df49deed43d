package prepare

import (
	"context"
	"fmt"
	"strings"

	"fundus/core/advice"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/refused"
	"fundus/core/table"
	"fundus/core/way"
	"fundus/internal/task/content"
	"fundus/internal/task/disk"
)

// state is how far the partition that is meant has come.
type state int

const (
	absent   state = iota // there is none
	begun                 // it is there, empty, and nothing names it
	finished              // it holds what is asked for, or what is used at the place
)

// find looks for the partition that is meant on the disk: the one at the place, by its mount or by
// what is to mount it; else one that holds the kind under the label; else an empty one.
func (w *road) find(v *inventory.Inventory) (inventory.Node, state) {
	parts := v.Parts(w.disk.Name)
	for _, n := range parts {
		if w.place != "" && w.usedAt(v, n) {
			return n, finished
		}
	}
	for _, n := range parts {
		c, ok := n.Content()
		// Without a label it is known by being the only one.
		known := w.label != "" || w.swap || len(parts) == 1 && !w.InRoom
		if ok && w.maker.Makes(c) && c.Label == w.label && known {
			return n, finished
		}
	}
	named := v.Named()
	for _, n := range parts {
		if w.disk.Table.Scheme == table.GPT && n.Entry.Name != w.label && len(parts) > 1 {
			continue // somebody else's, by its name
		}
		if n.Entry.Role != table.Extended && v.Unused(n, named) && w.suits(n) {
			return n, begun
		}
	}
	return inventory.Node{}, absent
}

// usedAt reports whether the node is mounted at the place, or a line or a unit mounts it there.
func (w *road) usedAt(v *inventory.Inventory, n inventory.Node) bool {
	if use, ok := v.MountedAt(w.place); ok {
		return use.Node == n.Name
	}
	by := v.Resolver()
	for _, k := range keepers(v) {
		if found := by.Resolve(k.Entry.Spec); k.Where == w.place && len(found) == 1 && found[0].Name == n.Name {
			return true
		}
	}
	return false
}

// suits reports whether an empty partition is one that this request would have made: of the size that
// was asked for, and not for something else by its type.
func (w *road) suits(n inventory.Node) bool {
	if size, asked := w.sized(); asked && size != n.Size {
		return false
	}
	if strings.EqualFold(n.Entry.Type, w.typed()) {
		return true
	}
	t, known := table.FindType(w.disk.Table.Scheme, n.Entry.Type)
	return known && t.ForLinux() && t.Name == "linux"
}

// sized is how large the partition is to be; false where all that is free is asked for, or a share.
func (w *road) sized() (quantity.Bytes, bool) {
	if w.Size.Form != quantity.Absolute && w.Size.Form != quantity.InSector {
		return 0, false
	}
	size, err := w.Size.Resolve(quantity.Bytes(w.disk.Geometry.Logical), 0)
	if err != nil {
		return 0, false // adding the partition says so
	}
	size, ok := size.Up(w.Config.Step(w.disk.Geometry))
	return size, ok
}

// typed is the type of the partition, as the scheme of the disk writes it: the usual one for what a
// probe would call the contents.
func (w *road) typed() string {
	s := w.scheme()
	usual, _ := table.ParseType(s, "linux")
	if w.firmware() {
		usual, _ = table.ParseType(s, "esp")
		return usual
	}
	size, asked := w.sized()
	if !asked {
		size = w.disk.Size
	}
	called, err := w.maker.Called(size, w.disk.Geometry, fs.Order{Wishes: fs.Wishes{}})
	if t, fits := table.Fitting(called, s); err == nil && fits {
		return t.Value(s)
	}
	return usual
}

// scheme is that of the table as it will be.
func (w *road) scheme() table.Scheme {
	switch {
	case w.disk.Table != nil && (len(w.disk.Table.Parts) > 0 || w.Scheme == ""):
		return w.disk.Table.Scheme
	case w.Scheme != "":
		return w.Scheme
	}
	return table.GPT
}

// room makes the partition, on a table that is there or is made.
func (w *road) room(ctx context.Context, v *inventory.Inventory, found inventory.Node, s state) error {
	if s == begun {
		w.part = found
		w.Note("partition %d is there already, and empty: it is taken", found.Number)
		return nil
	}
	if parts := v.Parts(w.disk.Name); len(parts) > 0 && !w.InRoom {
		return w.full(parts)
	}
	if err := w.table(ctx, v); err != nil {
		return err
	}
	part := disk.NewPart{Size: w.Size, Type: w.typed()}
	if w.scheme() == table.GPT {
		part.Name = w.label
	}
	made, err := w.Piece(ctx, &disk.PartitionAdd{Disk: w.disk.Name, Parts: []disk.NewPart{part}, Content: "erase"})
	if err != nil {
		return err
	}
	_, w.part, err = w.Partition(ctx, made[0])
	return err
}

// table keeps the table that is there, or makes one.
func (w *road) table(ctx context.Context, v *inventory.Inventory) error {
	have := w.disk.Table
	alone := true // nothing lies on the whole disk beside the table
	for _, c := range w.disk.Contents {
		alone = alone && c.Class == fs.Table
	}
	if have != nil && alone && (w.Scheme == "" || w.Scheme == have.Scheme) {
		_, reach, _ := have.Bytes(have.Usable)
		full := len(v.Parts(w.disk.Name)) > 0
		switch short := w.disk.Size-reach > quantity.GiB; { // an MBR reaches 2 TiB of sectors of 512 bytes
		case full, w.Scheme != "", !short:
			if !full {
				w.Note("the %s that is there is empty, and is kept", have.Scheme.Name())
			}
			return nil
		}
		w.Note("the %s that is there is empty, and reaches %v alone", have.Scheme.Name(), reach)
	}
	w.disk.Table = nil // it is made anew, of the scheme that was asked for
	_, err := w.Piece(ctx, &disk.TableNew{Disk: w.disk.Name, Scheme: w.scheme()})
	return err
}

// full refuses a disk with partitions.
func (w *road) full(parts []inventory.Node) error {
	const few = 3
	var list []string
	for _, n := range parts[:min(len(parts), few)] {
		holds := advice.Holds(n)
		if holds == "" {
			holds = "empty"
		}
		list = append(list, fmt.Sprintf("%s (%s)", n.Name, holds))
	}
	if more := len(parts) - few; more > 0 {
		list = append(list, fmt.Sprintf("%d more", more))
	}
	s := "s"
	if len(parts) == 1 {
		s = ""
	}
	err := fmt.Errorf("%s has %d partition%s already: %s; --in-free-room uses a gap next to them", w.disk.Name, len(parts), s, strings.Join(list, ", "))
	return way.To(refused.As(refused.Exists, err), way.PartitionList(w.disk.Name))
}

// fill makes what lies in the partition. What is lost there is a part of what the disk or the gap was
// said to lose, where anything was: nobody is asked for one thing twice.
func (w *road) fill(ctx context.Context) error {
	named := len(w.Draft.Losses)
	_, err := w.Piece(ctx, &content.Format{
		Target: w.part.Name,
		Kind:   w.maker.Word,
		Label:  w.label,
		Asked:  w.Asked,
		Type:   content.FitType,
	})
	if err != nil {
		return err
	}
	if named > 0 {
		w.Draft.Losses = w.Draft.Losses[:named]
	}
	_, w.part, err = w.Device(ctx, w.part.Name)
	return err
}
