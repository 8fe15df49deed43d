package task

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/table"
	"fundus/core/table/schemes"
)

// TableConvert writes a table in the other scheme; the partitions stay where they
// are.
type TableConvert struct {
	Disk   string       `json:"disk"`
	Scheme table.Scheme `json:"scheme"`
}

// Verb of the request.
func (*TableConvert) Verb() string { return "table convert" }

func (r *TableConvert) Plan(ctx context.Context, p *Planner) error {
	v, err := p.now(ctx)
	if err != nil {
		return err
	}
	n, err := p.disk(v, r.Disk)
	if err != nil {
		return err
	}
	p.title("convert the table of %s to %s", n.Name, schemeName(r.Scheme))
	old, err := p.editor(ctx, n)
	if err != nil {
		return err
	}
	m := old.Model()
	if m.Scheme == r.Scheme {
		return nil
	}
	dev, err := p.Stage.Open(ctx, n.Name)
	if err != nil {
		return err
	}
	fresh, err := schemes.New(dev, schemes.Wanted{Scheme: r.Scheme, Step: step(p.Config, n), ID: p.fresh()})
	if err != nil {
		return about(n, err)
	}
	if r.Scheme == table.GPT {
		p.overwritten(dev, fresh.Model())
		err = p.toGPT(m, fresh)
	} else {
		err = p.toMBR(m, fresh, step(p.Config, n))
	}
	if err != nil {
		return about(n, err)
	}
	if err := p.follow(ctx, v, n, m, fresh.Model()); err != nil {
		return err
	}
	if err := p.putAnew(ctx, n, fresh, nil); err != nil {
		return err
	}
	return p.Stage.TellKernel(ctx, n.Name)
}

// overwritten warns of what lies where a GPT goes.
func (p *Planner) overwritten(dev block.Device, m *table.Table) {
	sector := int64(m.Sector)
	first, last := int64(m.Usable.Start)*sector, int64(m.Usable.End())*sector
	for _, place := range []struct {
		from, to int64
		words    string
	}{{sector, first, "behind sector 0, where a boot loader's second part may lie"}, {last, dev.Size(), "at the end of the disk"}} {
		b, err := block.ReadSized(dev, place.from, place.to-place.from, 8<<20)
		if err != nil || !block.IsZero(b) {
			p.warn("the %d sectors %s are not empty, and are overwritten", (place.to-place.from)/sector, place.words)
		}
	}
}

// toGPT gives every partition but the extended one an entry of its own number.
func (p *Planner) toGPT(m *table.Table, fresh table.Editor) error {
	room := fresh.Model().Usable
	for _, part := range m.Parts {
		if part.Role == table.Extended {
			p.note("extended partition %d is not needed any more: logical partitions become partitions of their own with the same numbers", part.Number)
			continue
		}
		typ, err := otherType(m, part, table.GPT)
		if err != nil {
			return err
		}
		if !room.Contains(part.Span) {
			return fmt.Errorf("partition %d: sectors %v: %w: a GPT needs the first and the last sectors of the disk, %v are left; make it smaller, or move it", part.Number, part.Span, table.ErrPlace, room)
		}
		now := table.Partition{Number: part.Number, Span: part.Span, Type: typ, UUID: p.fresh().String()}
		if part.Attributes&table.Boot(table.MBR) != 0 {
			now.Attributes = table.Boot(table.GPT)
			p.warn("partition %d is marked for booting: old firmware that starts by the code in sector 0 may not start from a GPT; the code stays where it is", part.Number)
		}
		if err := fresh.Add(now); err != nil {
			return err
		}
	}
	return nil
}

// toMBR makes partitions 1 to 4 primary, and the others logical where there is a
// free sector before each of them.
func (p *Planner) toMBR(m *table.Table, fresh table.Editor, s quantity.Bytes) error {
	var primary, logical []table.Partition
	for _, part := range m.Parts {
		if part.Number <= 4 {
			primary = append(primary, part)
		} else {
			logical = append(logical, part)
		}
	}
	if len(logical) > 0 && len(primary) > 3 {
		return fmt.Errorf("%d partitions: %w: an MBR has four entries, and logical partitions need one of them", len(m.Parts), table.ErrValue)
	}
	add := func(part table.Partition, number int) error {
		typ, err := otherType(m, part, table.MBR)
		if err != nil {
			return err
		}
		now := table.Partition{Number: number, Span: part.Span, Type: typ}
		if part.Attributes&table.Boot(table.GPT) != 0 && number > 0 {
			now.Attributes = table.Boot(table.MBR)
		}
		if words := lostWords(m.Scheme, part); words != "" {
			p.warn("partition %d: an MBR does not keep %s", part.Number, words)
		}
		return fresh.Add(now)
	}
	for _, part := range primary {
		if err := add(part, part.Number); err != nil {
			return err
		}
	}
	if len(logical) == 0 {
		return nil
	}
	outer, err := around(m, logical, uint64(s/m.Sector))
	if err != nil {
		return err
	}
	extended, _ := table.ParseType(table.MBR, "extended")
	if err := fresh.Add(table.Partition{Span: outer, Type: extended}); err != nil {
		return err
	}
	for _, part := range logical {
		if err := add(part, 0); err != nil {
			return err
		}
	}
	return nil
}

// around is the span of an extended partition for the partitions: from a free
// sector before the first one to the end of the last.
func around(m *table.Table, logical []table.Partition, step uint64) (extent.Span, error) {
	first, end := logical[0].Span.Start, uint64(0)
	for _, part := range logical {
		first, end = min(first, part.Span.Start), max(end, part.Span.End())
	}
	for _, gap := range m.Gaps() {
		if gap.End() == first {
			start := max(gap.Start, first-min(step, first))
			return extent.Span{Start: start, Count: end - start}, nil
		}
	}
	return extent.Span{}, fmt.Errorf("sector %d: %w: a logical partition needs a free sector before it", first, table.ErrPlace)
}

// otherType is the type in the other scheme: the one of the same name, else a
// common one for what fits into both.
func otherType(m *table.Table, part table.Partition, s table.Scheme) (string, error) {
	t, known := table.FindType(m.Scheme, part.Type)
	if known && t.Value(s) != "" {
		return t.Value(s), nil
	}
	if known && t.ForLinux() {
		return table.ParseType(s, "linux")
	}
	return "", fmt.Errorf("partition %d: type %s: %w: %s has no such type; give it another one first: fundus partition edit", part.Number, TypeWords(m, part.Type), table.ErrValue, schemeName(s))
}

func lostWords(s table.Scheme, part table.Partition) string {
	var words []string
	if part.Name != "" {
		words = append(words, fmt.Sprintf("its name %q", part.Name))
	}
	if rest := part.Attributes &^ table.Boot(s); rest != 0 {
		words = append(words, "its attributes "+attributeWords(s, rest))
	}
	return strings.Join(words, " and ")
}

// follow lets every text file follow the identifiers of the partitions, which are
// where they were, and refuses where one that is in use would get another number.
func (p *Planner) follow(ctx context.Context, v *inventory.Inventory, disk inventory.Node, before, after *table.Table) error {
	for _, now := range after.Parts {
		i := slices.IndexFunc(before.Parts, func(o table.Partition) bool { return o.Span == now.Span && o.Role != table.Extended })
		if i < 0 {
			continue
		}
		was := before.Parts[i]
		n, ok := v.Node(nameOf(v, disk, was.Number))
		if !ok {
			continue
		}
		if was.UUID != now.UUID {
			p.facts(fs.Fact{Name: fmt.Sprintf("partition %d", was.Number), Value: fmt.Sprintf("PARTUUID %s becomes %s", was.UUID, now.UUID)})
		}
		pairs := [][2]string{{"PARTUUID=" + was.UUID, "PARTUUID=" + now.UUID}}
		if was.Name != "" && now.Name == "" {
			pairs = append(pairs, [2]string{"PARTLABEL=" + was.Name, "PARTUUID=" + now.UUID})
		}
		if was.Number != now.Number {
			if err := free(v, n); err != nil {
				return fmt.Errorf("partition %d would become %d: %w", was.Number, now.Number, err)
			}
			p.facts(fs.Fact{Name: "renumbered", Value: fmt.Sprintf("partition %d becomes %d", was.Number, now.Number)})
			pairs = append(pairs, [2]string{p.path(disk, was.Number), p.path(disk, now.Number)})
		}
		for _, pair := range pairs {
			if pair[0] == pair[1] || imaged(v, n) {
				continue
			}
			if err := p.rename(ctx, v, n, pair[0], pair[1]); err != nil {
				return err
			}
		}
	}
	return nil
}
