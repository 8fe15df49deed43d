package disk

import (
	"context"
	"fmt"
	"slices"

	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/lost"
	"fundus/core/refused"
	"fundus/core/table"
	"fundus/core/table/schemes"
	"fundus/core/way"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/task"
)

// Choose makes the request that writes a table of the chosen finds on a disk, by their
// numbers from 1; without any, of those that are proposed.
func Choose(disk string, found []lost.Found, scheme table.Scheme, numbers []int) (*TableRebuild, error) {
	r := &TableRebuild{Disk: disk, Scheme: scheme}
	for i, f := range found {
		if len(numbers) == 0 && !f.Proposed || len(numbers) > 0 && !slices.Contains(numbers, i+1) {
			continue
		}
		r.Parts = append(r.Parts, Rebuilt{f.Span, f.Content.Kind, f.Content.UUID, f.Content.Label})
	}
	for _, n := range numbers {
		if n < 1 || n > len(found) {
			return nil, way.To(refused.As(refused.NoSuchThing, fmt.Errorf("--choose: find %d: there are %d", n,
				len(found))), way.TableRepair(disk, "--search"))
		}
	}
	if len(r.Parts) == 0 {
		return nil, way.To(refused.As(refused.NothingThere, fmt.Errorf("%s: no find that could be a partition; a deed may still have its table",
			disk)), way.DeedList())
	}
	return r, nil
}

// TableRebuild writes a table of partitions that were found.
type TableRebuild struct {
	Disk   string       `json:"disk"`
	Scheme table.Scheme `json:"scheme"`
	Parts  []Rebuilt    `json:"parts"`
	// References decides about lines of fstab that name what goes: drop, disable or keep.
	References string `json:"references,omitempty"`
}

// Rebuilt is one of them, with what must be there.
type Rebuilt struct {
	Span  extent.Span `json:"span"` // sectors
	Kind  string      `json:"kind"`
	UUID  string      `json:"uuid,omitempty"`
	Label string      `json:"label,omitempty"`
}

// Verb of the request.
func (*TableRebuild) Verb() string { return "table rebuild" }

// Devices implements task.About.
func (r *TableRebuild) Devices() []string { return []string{r.Disk} }

func (r *TableRebuild) Plan(ctx context.Context, p *task.Planner) error {
	v, n, err := p.Disk(ctx, r.Disk)
	if err != nil {
		return err
	}
	p.Title("rebuild the table of %s", n.Name)
	p.Results(draft.RoleTable, n.Name)
	dev, err := p.Stage.Open(ctx, n.Name)
	if err != nil {
		return err
	}
	t, err := schemes.New(dev, schemes.Wanted{Scheme: r.Scheme, Step: p.Config.Step(n.Geometry), ID: p.Fresh()})
	if err != nil {
		return machine.About(n.Name, err)
	}
	for _, part := range r.Parts {
		if err := rebuild(ctx, p, n, t, part); err != nil {
			return machine.About(n.Name, err)
		}
	}
	if err := replace(ctx, p, v, n, t, r.References); err != nil {
		return err
	}
	return p.Stage.TellKernel(ctx, n.Name)
}

// rebuild adds one partition, after a look whether what was found is still there.
func rebuild(ctx context.Context, p *task.Planner, n inventory.Node, t table.Editor, part Rebuilt) error {
	m := t.Model()
	start, size, ok := m.Bytes(part.Span)
	if !ok {
		return fmt.Errorf("sectors %v: %w", part.Span, table.ErrPlace)
	}
	under, err := p.Under(ctx, n, start, size)
	if err != nil {
		return err
	}
	is := func(c fs.Content) bool { return c.Kind == part.Kind && c.UUID == part.UUID }
	if !slices.ContainsFunc(under.Contents, is) {
		return fmt.Errorf("sectors %v: %w: the %s that was found there is there no more; search again", part.Span,
			table.ErrPlace, part.Kind)
	}
	typ, err := table.ParseType(m.Scheme, "linux")
	for _, fits := range table.Types() {
		if slices.Contains(fits.Holds, part.Kind) && fits.Value(m.Scheme) != "" {
			typ = fits.Value(m.Scheme)
			break
		}
	}
	if err != nil {
		return err
	}
	added := table.Partition{Span: part.Span, Type: typ, UUID: p.Fresh().String()}
	if m.Scheme == table.GPT && len([]rune(part.Label)) <= 16 {
		added.Name = part.Label
	}
	if err := t.Add(added); err != nil {
		return err
	}
	p.Facts(fs.Fact{Name: "partition", Value: fmt.Sprintf("%s at sectors %v = %v", describeKind(part), part.Span, size)})
	return nil
}

func describeKind(r Rebuilt) string {
	if r.Label == "" {
		return r.Kind
	}
	return r.Kind + " " + r.Label
}
