package view

import (
	"cmp"
	"fmt"
	"slices"

	"fundus/core/advice"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/table"
	"fundus/core/way"
	"fundus/internal/look"
)

// Partitions is the table of one disk.
type Partitions struct {
	*look.Survey
	Identifiers bool // with PARTUUIDs and attributes
}

// Document implements Report.
func (r Partitions) Document() any {
	d := r.Disks[0]
	t := d.Table
	doc := PartitionsDoc{
		Head:       head("partitions"),
		Disk:       d.Name,
		Target:     targetDoc(r.Called[d.Name]),
		Scheme:     string(t.Scheme),
		TableID:    t.ID,
		Sector:     int64(t.Sector),
		Partitions: []PartitionDoc{},
		Gaps:       []GapDoc{},
	}
	for _, part := range t.Parts {
		one := PartitionDoc{
			Number:     part.Number,
			First:      part.Span.Start,
			Sectors:    part.Span.Count,
			Type:       part.Type,
			TypeName:   typeName(t.Scheme, part.Type),
			Name:       part.Name,
			PartUUID:   part.UUID,
			Attributes: part.Attributes,
			Role:       string(part.Role),
		}
		for _, n := range r.Inventory.Parts(d.Name) {
			if n.Number == part.Number {
				one.Device, one.Target, one.Holds = n.Name, targetDoc(r.Called[n.Name]), advice.Words(n)
			}
		}
		doc.Partitions = append(doc.Partitions, one)
	}
	for i, room := range t.Rooms(r.Step(d)) {
		doc.Gaps = append(doc.Gaps, GapDoc{i + 1, room.Start, room.Count})
	}
	return doc
}

// PartitionsDoc is the document of kind partitions: the table of one disk.
type PartitionsDoc struct {
	Head
	Disk       string         `json:"disk"`
	Target     *TargetDoc     `json:"target"`
	Scheme     string         `json:"scheme" of:"scheme"`
	TableID    string         `json:"table_id"`
	Sector     int64          `json:"sector_bytes"` // in which places are counted
	Partitions []PartitionDoc `json:"partitions"`
	Gaps       []GapDoc       `json:"gaps"` // that take a partition
}

// PartitionDoc is one entry of the table.
type PartitionDoc struct {
	Number     int        `json:"number"`
	Device     string     `json:"device,omitempty"`
	Target     *TargetDoc `json:"target,omitempty"`
	First      uint64     `json:"first_sector"`
	Sectors    uint64     `json:"sectors"`
	Type       string     `json:"type"`      // a GUID, or a byte in hexadecimal
	TypeName   string     `json:"type_name"` // the word that commands take; the type itself where there is none
	Name       string     `json:"name,omitempty"`
	PartUUID   string     `json:"partuuid,omitempty"`
	Attributes uint64     `json:"attributes"`
	Role       string     `json:"role,omitempty"` // of an MBR: primary, extended or logical
	Holds      string     `json:"holds"`          // in words
}

// GapDoc is a gap that takes a partition.
type GapDoc struct {
	Number  int    `json:"number"` // as partition add --in takes it
	First   uint64 `json:"first_sector"`
	Sectors uint64 `json:"sectors"`
}

// Words implements Report.
func (r Partitions) Words(p *Printer) {
	d := r.Disks[0]
	parts := r.Inventory.Parts(d.Name)
	p.wrap(0, "", fmt.Sprintf("%s: %s, %s, %s", p.paint(Strong, visible(d.Name)), scheme(d),
		count(len(d.Table.Parts), "partition"), p.gapWords(d, r.Step(d))))
	p.partitionTable(d, parts, r.Step(d))
	if r.Identifiers {
		p.identifiers(d, parts)
	}
	if len(d.Table.Parts) == 0 {
		p.printf("  no partitions; one is made by:\n")
		p.Next(way.PartitionAdd(d.Name))
	}
}

// gapWords count the gaps that take a partition.
func (p *Printer) gapWords(d inventory.Node, step quantity.Bytes) string {
	rooms := d.Table.Rooms(step)
	if len(rooms) == 0 {
		return "no gap that takes one"
	}
	sum := uint64(0)
	for _, r := range rooms {
		sum += r.Count
	}
	size, _ := quantity.Count(sum).Times(d.Table.Sector)
	return fmt.Sprintf("%s free in %s", p.size(size, int64(d.Table.Sector)), count(len(rooms), "gap"))
}

// partitionTable shows partitions and the gaps that take one, in the order of their place.
func (p *Printer) partitionTable(d inventory.Node, parts []inventory.Node, step quantity.Bytes) {
	type row struct {
		start uint64
		cells []string
	}
	var list []row
	add := func(device, holds string, span extent, typ, name string) {
		size, _ := quantity.Count(span.Count).Times(d.Table.Sector)
		list = append(list, row{
			span.Start,
			[]string{
				device, fmt.Sprint(span.Start), fmt.Sprint(span.Start + span.Count - 1),
				p.cell(size, int64(d.Table.Sector)), typ, holds, name,
			},
		})
	}
	for _, part := range d.Table.Parts {
		device, holds := fmt.Sprint(part.Number), ""
		for _, n := range parts {
			if n.Number == part.Number {
				device, holds = visible(n.Name), visible(advice.Words(n))
			}
		}
		add(device, holds, extent{part.Span.Start, part.Span.Count}, typeName(d.Table.Scheme, part.Type), visible(part.Name))
	}
	for i, room := range d.Table.Rooms(step) {
		add("\u00b7", p.paint(Free, fmt.Sprintf("gap %d", i+1)), extent{room.Start, room.Count}, "", "")
	}
	slices.SortStableFunc(list, func(a, b row) int { return cmp.Compare(a.start, b.start) })
	var rows [][]string
	for _, r := range list {
		rows = append(rows, r.cells)
	}
	if len(rows) > 0 {
		p.columns(2, []string{"device", ">from", ">to", ">" + p.unit("size"), "type", "holds", "name"}, rows, 6, 5, 4)
		p.wrap(2, "", p.paint(Free, fmt.Sprintf("from and to are sectors of %d bytes", d.Table.Sector)))
	}
}

// extent is a run of sectors.
type extent struct{ Start, Count uint64 }

// typeName is the short name of a partition type, else what the table has.
func typeName(s table.Scheme, typ string) string {
	if t, ok := table.FindType(s, typ); ok {
		return t.Name
	}
	return typ
}

// identifiers are a table of their own: beside the rest they do not fit.
func (p *Printer) identifiers(d inventory.Node, parts []inventory.Node) {
	devices := map[int]string{}
	for _, n := range parts {
		devices[n.Number] = visible(n.Name)
	}
	var rows [][]string
	for _, part := range d.Table.Parts {
		rows = append(rows, []string{
			devices[part.Number], part.UUID, cmp.Or(table.AttributeWords(d.Table.Scheme, part.Attributes), "none"),
		})
	}
	if len(rows) > 0 {
		p.columns(2, []string{"device", "PARTUUID", "attributes"}, rows)
	}
}
