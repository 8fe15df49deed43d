package task

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/table"
	"fundus/core/table/gpt"
	"fundus/internal/machine"
)

// TableNew makes a new partition table in place of whatever the disk holds.
type TableNew struct {
	Disk   string       `json:"disk"`
	Scheme table.Scheme `json:"scheme"`
}

// Verb of the request.
func (*TableNew) Verb() string { return "table new" }

// ErrScheme is a scheme that Fundus does not make.
var ErrScheme = errors.New("not a partition table that Fundus makes")

func (r *TableNew) plan(ctx context.Context, p *Planner) error {
	if r.Scheme != table.GPT {
		return fmt.Errorf("%q: %w; it makes: gpt", r.Scheme, ErrScheme)
	}
	v := p.Stage.Before()
	n, err := p.disk(v, r.Disk)
	if err != nil {
		return err
	}
	p.Draft.Title = "new GPT on " + n.Name
	if err := p.lose(ctx, v, n); err != nil {
		return err
	}
	fresh, err := gpt.New(n.Size, quantity.Bytes(n.Geometry.Logical), step(p.Config, n), p.fresh())
	if err != nil {
		return fmt.Errorf("%s: %w", n.Name, err)
	}
	for _, part := range v.Parts(n.Name) {
		if err := p.free(ctx, part); err != nil {
			return err
		}
	}
	bare := false // a file system or the like on the whole disk
	for _, c := range n.Contents {
		bare = bare || c.Class != fs.Table
	}
	target := whole(n, bare)
	err = p.write(ctx, "write the table", target, func(dev block.Device) error {
		if bare {
			if err := eraseSignatures(dev, n.Contents); err != nil {
				return err
			}
		}
		return p.putTable(dev, fresh)
	})
	if err != nil {
		return err
	}
	first, last := fresh.FirstUsable, fresh.LastUsable
	p.facts(fs.Fact{Name: "usable", Value: fmt.Sprintf("sectors %d to %d of %d bytes = %v", first, last, n.Geometry.Logical, quantity.Bytes(last-first+1)*quantity.Bytes(n.Geometry.Logical))},
		fs.Fact{Name: "alignment", Value: fmt.Sprintf("partitions start on multiples of %v", step(p.Config, n))},
		fs.Fact{Name: "disk GUID", Value: fresh.DiskGUID.String()})
	return p.Stage.TellKernel(ctx, n.Name)
}

// free refuses a partition that the kernel would not forget.
func (p *Planner) free(_ context.Context, n inventory.Node) error {
	v := p.Stage.Before()
	if err := machine.CheckClaim(v, whole(n, true)); err != nil {
		return err
	}
	return nil
}

// putTable writes the table in the order that leaves Linux the old or the new
// one, and warns where there is no room for that.
func (p *Planner) putTable(dev block.Device, t *gpt.Table) error {
	old, err := gpt.Read(dev)
	if err != nil && !errors.Is(err, gpt.ErrNone) {
		return err
	}
	order, err := gpt.Write(dev, old, t)
	if order == gpt.Plain {
		p.warn("there is no free space before the first partition for an interim copy: a power cut in the wrong moment leaves only the backup copy of the table")
	}
	return err
}

// eraseSignatures zeroes the sectors of every signature.
func eraseSignatures(dev block.Device, contents []fs.Content) error {
	sector := uint64(dev.Geometry().Logical)
	for _, c := range contents {
		for _, s := range c.Signatures {
			start := s.Start / sector * sector
			end := (s.End() + sector - 1) / sector * sector
			if err := dev.WriteZeroes(int64(start), int64(end-start)); err != nil {
				return err
			}
		}
	}
	return dev.Sync()
}

// TableRepair writes both copies of a GPT anew from the good one.
type TableRepair struct {
	Disk string `json:"disk"`
}

// Verb of the request.
func (*TableRepair) Verb() string { return "table repair" }

func (r *TableRepair) plan(ctx context.Context, p *Planner) error {
	n, err := p.disk(p.Stage.Before(), r.Disk)
	if err != nil {
		return err
	}
	p.Draft.Title = "repair the table of " + n.Name
	good, state, err := p.readTable(ctx, n)
	if err != nil {
		return err
	}
	if len(gpt.Check(n.Name, state)) == 0 {
		return nil
	}
	p.facts(fs.Fact{Name: "good copy", Value: fmt.Sprintf("the one at sector %d", good.MyLBA)})
	fixed := good.Clone()
	sector := uint64(n.Geometry.Logical)
	array := (uint64(len(fixed.Entries))*uint64(fixed.EntrySize) + sector - 1) / sector
	fixed.ArrayLBA = 2
	fixed.LastUsable = max(fixed.LastUsable, state.Sectors-array-2)
	if err := p.write(ctx, "write the table", whole(n, false), func(dev block.Device) error { return p.putTable(dev, fixed) }); err != nil {
		return err
	}
	return p.Stage.TellKernel(ctx, n.Name)
}

func (p *Planner) readTable(ctx context.Context, n inventory.Node) (*gpt.Table, *gpt.State, error) {
	dev, err := p.Stage.Open(ctx, n.Name)
	if err != nil {
		return nil, nil, err
	}
	state, err := gpt.Read(dev)
	if errors.Is(err, gpt.ErrNone) {
		what := "it has none"
		if n.Table != nil {
			what = fmt.Sprintf("it has an %s", n.Table.Scheme)
		}
		return nil, nil, fmt.Errorf("%s: %w: %s; fundus table new %s makes one", n.Name, ErrNoTable, what, n.Name)
	}
	if err != nil {
		return nil, nil, err
	}
	good := state.Good()
	if good == nil {
		return nil, nil, fmt.Errorf("gpt: %s: no good copy: primary: %w; backup: %w; undo the deed that did it (fundus deed list), or make a new table: fundus table new %s", n.Name, state.PrimaryErr, state.BackupErr, n.Name)
	}
	return good, state, nil
}

// editable gives the table of a disk for editing; a damaged one is repaired
// first.
func (p *Planner) editable(ctx context.Context, n inventory.Node) (*gpt.Table, error) {
	good, state, err := p.readTable(ctx, n)
	if err != nil {
		return nil, err
	}
	for _, bad := range []error{state.PrimaryErr, state.BackupErr} {
		if bad != nil {
			return nil, fmt.Errorf("gpt: %s: %w; nothing is changed while a copy is damaged: fundus table repair %s", n.Name, bad, n.Name)
		}
	}
	return good.Clone(), nil
}

// PartitionAdd puts a new partition into the first gap that takes it.
type PartitionAdd struct {
	Disk    string        `json:"disk"`
	Size    quantity.Size `json:"size,omitzero"` // none: the largest gap
	Name    string        `json:"name,omitempty"`
	Type    string        `json:"type,omitempty"`
	Content string        `json:"content,omitempty"` // keep or erase old content
}

// Verb of the request.
func (*PartitionAdd) Verb() string { return "partition add" }

// ErrContent asks for a decision about old content.
var ErrContent = errors.New("the space holds old content")

func (r *PartitionAdd) plan(ctx context.Context, p *Planner) error {
	v := p.Stage.Before()
	n, err := p.disk(v, r.Disk)
	if err != nil {
		return err
	}
	t, err := p.editable(ctx, n)
	if err != nil {
		return err
	}
	model := t.Model(quantity.Bytes(n.Geometry.Logical))
	span, err := r.place(p, n, model)
	if err != nil {
		return err
	}
	number, err := model.FreeNumber()
	if err != nil {
		return fmt.Errorf("%s: %w", n.Name, err)
	}
	word := r.Type
	if word == "" {
		word = "linux"
	}
	typ, err := gpt.ParseType(word)
	if err != nil {
		return err
	}
	e := gpt.Entry{Type: typ, Unique: p.fresh(), First: span.Start, Last: span.End() - 1}
	if err := errors.Join(e.SetName(r.Name), t.Add(number, e)); err != nil {
		return err
	}
	p.Draft.Title = fmt.Sprintf("partition %d on %s", number, n.Name)
	start, size, _ := model.Bytes(span) // t.Add refused what does not lie on the disk
	if err := r.decideContent(ctx, p, n, start, size); err != nil {
		return err
	}
	p.facts(fs.Fact{Name: "sectors", Value: fmt.Sprintf("%d to %d: %d × %d bytes = %v (%s)", span.Start, span.End()-1, span.Count, n.Geometry.Logical, size, size.SI())},
		fs.Fact{Name: "PARTUUID", Value: e.Unique.String()})
	if err := p.write(ctx, "write the table", whole(n, false), func(dev block.Device) error { return p.putTable(dev, t) }); err != nil {
		return err
	}
	return p.Stage.TellKernel(ctx, n.Name)
}

// place works out where the partition goes, and says every rounding.
func (r *PartitionAdd) place(p *Planner, n inventory.Node, model *table.Table) (extent.Span, error) {
	sector := model.Sector
	largest, _ := quantity.Count(model.Largest(step(p.Config, n)).Count).Times(sector)
	size := quantity.Bytes(0)
	if !r.Size.IsZero() && r.Size.Form != quantity.Max {
		var err error
		if size, err = r.Size.Resolve(sector, largest); err != nil {
			return extent.Span{}, err
		}
		if size <= 0 {
			return extent.Span{}, fmt.Errorf("%s: a partition of no bytes", r.Size)
		}
		if r.Size.Bare {
			p.note("%s is read as binary: %v = %s", r.Size, size, size.SI())
		}
		if r.Size.Form == quantity.Percent {
			p.note("%s of the largest free gap, %v", r.Size, largest)
		}
	}
	span, err := model.Place(size, step(p.Config, n))
	if err != nil {
		return extent.Span{}, fmt.Errorf("%s: %w", n.Name, err)
	}
	got, _ := quantity.Count(span.Count).Times(sector)
	if size > 0 && got != size {
		p.note("%d bytes rounded up to %v (%d bytes), a multiple of the alignment step of %v", size, got, got, step(p.Config, n))
	}
	return span, nil
}

// decideContent looks under the new partition: arrays and file systems start
// by themselves once the kernel knows it, so that old content must be kept or
// erased on purpose, and before.
func (r *PartitionAdd) decideContent(ctx context.Context, p *Planner, n inventory.Node, start, size quantity.Bytes) error {
	if r.Content != "" && r.Content != "keep" && r.Content != "erase" {
		return fmt.Errorf("--content=%s: use keep or erase", r.Content)
	}
	under, err := p.under(ctx, n, start, size)
	if err != nil || len(under.Contents) == 0 {
		return err
	}
	var kinds []string
	for _, c := range under.Contents {
		kinds = append(kinds, describe(c))
	}
	what := strings.Join(kinds, " and ")
	switch r.Content {
	case "":
		return fmt.Errorf("%s: %w: %s; say --content=keep to have it back, or --content=erase", n.Name, ErrContent, what)
	case "keep":
		p.note("the partition begins with %s and keeps it", what)
		return nil
	}
	loss, err := p.lossOf(ctx, under)
	if err != nil {
		return err
	}
	if loss != nil {
		p.Draft.Losses = append(p.Draft.Losses, *loss)
	}
	target := machine.Target{Disk: n.Name, Start: start, Size: size, Content: true}
	return p.write(ctx, "erase old signatures", target, func(dev block.Device) error { return eraseSignatures(dev, under.Contents) })
}

// PartitionRemove takes a partition out of the table. Its bytes stay.
type PartitionRemove struct {
	Target string `json:"target"`
}

// Verb of the request.
func (*PartitionRemove) Verb() string { return "partition remove" }

func (r *PartitionRemove) plan(ctx context.Context, p *Planner) error {
	v := p.Stage.Before()
	n, err := Resolve(v, r.Target)
	if err != nil {
		return err
	}
	if n.Parent == "" {
		return fmt.Errorf("%s: %w; fundus partition list %s shows its partitions", n.Name, ErrNotPart, n.Name)
	}
	disk, _ := v.Node(n.Parent)
	p.Draft.Title = fmt.Sprintf("remove partition %d of %s", n.Number, disk.Name)
	if err := p.free(ctx, n); err != nil {
		return err
	}
	t, err := p.editable(ctx, disk)
	if err != nil {
		return err
	}
	if err := t.Remove(n.Number); err != nil {
		return err
	}
	if err := p.lose(ctx, v, n); err != nil {
		return err
	}
	p.note("its bytes stay where they are until something else is written there")
	if err := p.write(ctx, "write the table", whole(disk, false), func(dev block.Device) error { return p.putTable(dev, t) }); err != nil {
		return err
	}
	return p.Stage.TellKernel(ctx, disk.Name)
}
