package view

import (
	"cmp"
	"fmt"
	"slices"

	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/internal/look"
)

// wideEnough is how many columns a table with identifiers takes.
const wideEnough = 110

// Partitions is the table of one disk.
type Partitions struct{ *look.Survey }

// Document implements Report.
func (r Partitions) Document() any { return surveyDocument(r.Survey) }

// Words implements Report.
func (r Partitions) Words(p *Printer) {
	s := r.Survey
	d := s.Disks[0]
	p.printf("%s  %s  %s, sectors of %d bytes\n", visible(d.Name), scheme(d), d.Table.ID, d.Table.Sector)
	heading := []string{">#", ">first sector", ">last sector", ">sectors", ">size", "name"}
	wide := p.Width >= wideEnough
	if wide {
		heading = append(heading, "PARTUUID")
	}
	p.columns(2, heading, p.partitionRows(d, s.Step(d), wide))
	if len(d.Table.Parts) == 0 {
		p.printf("  no partitions; fundus partition add %s makes one\n", visible(d.Name))
	}
}

// partitionRows are partitions and the gaps that take one, in the order of their
// place. What lies inside an extended partition is drawn in.
func (p *Printer) partitionRows(d inventory.Node, step quantity.Bytes, wide bool) [][]string {
	type row struct {
		start uint64
		cells []string
	}
	var list []row
	add := func(number string, start, count uint64, name, id string) {
		size, _ := quantity.Count(count).Times(d.Table.Sector)
		cells := []string{number, fmt.Sprint(start), fmt.Sprint(start + count - 1), fmt.Sprint(count), p.size(size, int64(d.Table.Sector)), name}
		if wide {
			cells = append(cells, id)
		}
		list = append(list, row{start, cells})
	}
	for _, part := range d.Table.Parts {
		name := visible(part.Name)
		if part.Role != "" {
			name = string(part.Role)
		}
		add(fmt.Sprint(part.Number), part.Span.Start, part.Span.Count, name, part.UUID)
	}
	for i, room := range d.Table.Rooms(step) {
		add("\u00b7", room.Start, room.Count, p.paint(Free, fmt.Sprintf("gap %d", i+1)), "")
	}
	slices.SortStableFunc(list, func(a, b row) int { return cmp.Compare(a.start, b.start) })
	var rows [][]string
	for _, r := range list {
		rows = append(rows, r.cells)
	}
	return rows
}
