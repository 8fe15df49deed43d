package content

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"fundus/core/advice"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/table"
	"fundus/internal/machine"
	"fundus/internal/task"
)

// FitType has a partition's type follow what the partition is made to hold.
const FitType = "fit"

// checkType refuses a word for the type, and a device that has none, before anything is
// planned.
func (r *Format) checkType(n inventory.Node) error {
	switch {
	case r.Type == "":
		return nil
	case r.Type != FitType:
		return advice.Way(fmt.Errorf("--type=%s: a format takes --type=fit alone, for the type that fits what is made", r.Type), "fundus partition edit %s --type %s", n.Name, r.Type)
	case n.Parent == "":
		return fmt.Errorf("--type=fit: %s is in no table that could say a type", n.Name)
	}
	return nil
}

// fit says the type that fits what was made: in the table where that is asked for, else as
// a note where the present one is for something else.
func (r *Format) fit(ctx context.Context, p *task.Planner, n inventory.Node, firmware bool) error {
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	now, _ := v.Node(n.Name)
	c, ok := now.Content()
	disk, found := v.Node(n.Parent)
	if !ok || !found || disk.Table == nil {
		return nil
	}
	want, ok := wantedType(disk.Table.Scheme, n.Entry.Type, c.Kind, firmware)
	switch {
	case !ok:
		return nil
	case r.Type == "" && firmware:
		p.Note("firmware looks for the type %s: --type=fit sets it", want.Name)
		return nil
	case r.Type == "":
		p.Note("--type=fit sets the type of the partition to %s", want.Name)
		return nil
	}
	t, err := p.Editor(ctx, disk)
	if err != nil {
		return err
	}
	part, _ := t.Model().Part(n.Number)
	was := part.Type
	part.Type = want.Value(disk.Table.Scheme)
	if err := t.Set(n.Number, part); err != nil {
		return machine.About(n.Name, err)
	}
	p.Facts(fs.Fact{Name: "type", Value: fmt.Sprintf("%s becomes %s", table.TypeWords(t.Model(), was), table.TypeWords(t.Model(), part.Type))})
	return p.Change(ctx, disk, t)
}

// wantedType is the type that a partition should have in place of its present one; none
// where that one is for such contents, or nobody knows what it is for.
func wantedType(s table.Scheme, now, kind string, firmware bool) (table.Type, bool) {
	t, known := table.FindType(s, now)
	if firmware {
		esp, err := table.ParseType(s, "esp")
		if err != nil || strings.EqualFold(esp, now) {
			return table.Type{}, false
		}
		return table.FindType(s, esp)
	}
	if !known || len(t.Holds) == 0 || slices.Contains(t.Holds, kind) {
		return table.Type{}, false
	}
	return table.Fitting(kind, s)
}
