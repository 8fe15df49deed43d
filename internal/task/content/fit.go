package content

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/refused"
	"fundus/core/table"
	"fundus/core/way"
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
		return way.To(refused.As(refused.SettingWrong, fmt.Errorf("--type=%s: a format takes --type=fit alone, for the type that fits what is made",
			r.Type)), way.PartitionEdit(n.Name, "--type", r.Type))
	case n.Parent == "":
		return refused.As(refused.NoTable, fmt.Errorf("--type=fit: %s is in no table that could say a type", n.Name))
	}
	return nil
}

// fit says the type that fits what is going to be made: in the table where that is asked
// for, else as a note where the present one is for something else.
//
// The type is a part of the deed of its own, and comes first: where the deed is cut between
// the two, what was there before is still whole, under the type of what it was to become.
func (r *Format) fit(ctx context.Context, p *task.Planner, v *inventory.Inventory, n inventory.Node, made string, firmware bool) error {
	on, found := v.Node(n.Parent)
	if !found || on.Table == nil {
		return nil
	}
	want, ok := wantedType(on.Table.Scheme, n.Entry.Type, made, firmware)
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
	return p.Part(func() error { return setType(ctx, p, n, on, want.Value(on.Table.Scheme)) })
}

func setType(ctx context.Context, p *task.Planner, n, on inventory.Node, to string) error {
	p.Title("set the type of %s", n.Name)
	t, err := p.Editor(ctx, on)
	if err != nil {
		return err
	}
	part, _ := t.Model().Part(n.Number)
	was := part.Type
	part.Type = to
	if err := t.Set(n.Number, part); err != nil {
		return machine.About(n.Name, err)
	}
	p.Facts(fs.Fact{Name: "type", Value: fmt.Sprintf("%s becomes %s", table.TypeWords(t.Model(), was), table.TypeWords(t.Model(), to))})
	return p.Change(ctx, on, t)
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
