package view

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"fundus/core/advice"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/internal/draft"
)

// changedRow is a partition, or what lies on a whole disk, before or after.
type changedRow struct {
	mark   string // goes, comes, or "" for what stays
	number int
	start  quantity.Bytes
	cells  []string
}

// The marks of what a draft changes, of rows and of lines alike.
const (
	goes  = "goes"
	comes = "comes"
)

// pictures shows of each disk what goes and what comes; what stays beside it is folded.
func (p *Printer) pictures(d *draft.Draft) {
	for _, t := range d.Written() {
		before, after := family(d.Before, t.Name), family(d.After, t.Name)
		disk, _ := before.Node(t.Name)
		now, _ := after.Node(t.Name)
		p.printf("%s  %s  %s%s\n", p.paint(Strong, visible(t.Name)), strings.Join(hardware(disk), " · "),
			p.size(disk.Size, disk.Geometry.Logical), nothingOn(disk))
		if was, is := scheme(disk), scheme(now); was != is || tableID(disk) != tableID(now) {
			p.printf("  %s\n", becomes(disk, now))
		}
		p.changedRows(d, p.compare(before, after, disk, now))
		if free := freeWords(p, after, now); free != "" && free != freeWords(p, before, disk) {
			p.printf("  %s\n", p.paint(Free, "afterwards "+free))
		}
	}
}

// nothingOn says of a disk with neither table nor content whether it reads as zeros.
func nothingOn(disk inventory.Node) string {
	switch {
	case disk.Table != nil || len(disk.Contents) > 0 || lostTable(disk):
		return ""
	case disk.Zeros:
		return ", empty"
	case disk.Unrecognised():
		return ", data that is not recognised"
	}
	return ""
}

func tableID(n inventory.Node) string {
	if n.Table == nil {
		return ""
	}
	return n.Table.ID
}

// becomes says which table takes the place of what.
func becomes(was, is inventory.Node) string {
	if scheme(was) == scheme(is) && len(is.Table.Parts) > 0 && slices.Equal(was.Table.Spans(), is.Table.Spans()) {
		return "the same " + scheme(is) + " with another identifier"
	}
	if scheme(was) == scheme(is) {
		return "a new " + scheme(is) + " in place of the old one"
	}
	return tableWords(was) + " becomes " + tableWords(is)
}

// tableWords are the scheme, and for a disk without a table what is there.
func tableWords(n inventory.Node) string {
	if n.Table != nil {
		return scheme(n)
	}
	return scheme(n) + " (" + visible(advice.Words(n)) + ")"
}

// compare puts before and after side by side, in the order of their places.
func (p *Printer) compare(before, after *inventory.Inventory, disk, now inventory.Node) []changedRow {
	old, fresh := p.held(before, disk), p.held(after, now)
	var rows []changedRow
	same := func(list []changedRow, r changedRow) bool {
		return slices.ContainsFunc(list, func(o changedRow) bool { return o.number == r.number && slices.Equal(o.cells, r.cells) })
	}
	for _, r := range old {
		if !same(fresh, r) {
			r.mark = goes
		}
		rows = append(rows, r)
	}
	for _, r := range fresh {
		if !same(old, r) {
			r.mark = comes
			rows = append(rows, r)
		}
	}
	slices.SortStableFunc(rows, func(a, b changedRow) int {
		return cmp.Or(cmp.Compare(a.start, b.start), cmp.Compare(b.mark, a.mark)) // what goes before what comes
	})
	return rows
}

// held lists what is on the disk, without free space.
func (p *Printer) held(v *inventory.Inventory, d inventory.Node) (out []changedRow) {
	for _, x := range pieces(v, d) {
		if x.node == nil {
			continue
		}
		n := x.node
		start, typ := "", ""
		if n.Number > 0 {
			start, typ = p.cell(x.start, d.Geometry.Logical), typeName(d.Table.Scheme, n.Entry.Type)
		}
		out = append(out, changedRow{
			"", n.Number, x.start,
			[]string{visible(n.Name), start, p.sizeOf(*n, d), typ, summary(*n), visible(n.Entry.Name)},
		})
	}
	return out
}

// freeWords say what is free on the disk.
func freeWords(p *Printer, v *inventory.Inventory, d inventory.Node) string {
	if d.Table == nil {
		return ""
	}
	sum, gaps := quantity.Bytes(0), 0
	for _, x := range pieces(v, d) {
		if x.node == nil {
			sum, gaps = sum+x.size, gaps+1
		}
	}
	if gaps == 0 {
		return "nothing is free"
	}
	return fmt.Sprintf("%s free in %s", p.size(sum, d.Geometry.Logical), count(gaps, "gap"))
}

// fewSame is how many rows that stay are shown one by one.
const fewSame = 2

// alike finds the end of the rows from one on of which there is no more to say than their
// number: those that stay, and empty ones that go.
func alike(rows []changedRow, from int) (end int, words string) {
	stays := func(r changedRow) bool { return r.mark == "" }
	goes := func(r changedRow) bool { return r.mark == goes && slices.Contains(r.cells, "empty") }
	count := func(fits func(changedRow) bool) int {
		end := from
		for end < len(rows) && fits(rows[end]) {
			end++
		}
		return end
	}
	if end := count(stays); end > from {
		return end, "unchanged"
	}
	return count(goes), "empty"
}

// changedRows prints the rows; three or more that are alike become one.
func (p *Printer) changedRows(d *draft.Draft, rows []changedRow) {
	lost := map[int]bool{}
	for _, l := range d.Losses {
		for _, n := range d.Before {
			if n.Name == l.Node {
				lost[n.Number] = true
			}
		}
	}
	var cells [][]string
	for i := 0; i < len(rows); {
		if end, words := alike(rows, i); end-i > fewSame {
			cells = append(cells, []string{
				rows[i].mark, fmt.Sprintf("%s-%d", rows[i].cells[0], rows[end-1].number), "", "", "",
				p.paint(Free, fmt.Sprintf("%d %s", end-i, words)), "", "",
			})
			i = end
			continue
		}
		r := rows[i]
		state, word := Plain, ""
		switch r.mark {
		case goes:
			state = Changed
			if lost[r.number] {
				state, word = Lost, "LOST"
			}
		case comes:
			state = InUse
		}
		row := []string{p.paint(state, r.mark)}
		for _, c := range append(slices.Clone(r.cells), word) {
			row = append(row, p.paint(state, c))
		}
		cells = append(cells, row)
		i++
	}
	if len(cells) > 0 {
		p.columns(2, []string{"", "device", ">" + p.unit("begins"), ">" + p.unit("size"), "type", "holds", "name", ""}, cells, 6, 5, 4)
	}
}

func family(nodes []inventory.Node, disk string) *inventory.Inventory {
	v := &inventory.Inventory{Nodes: nodes}
	return &inventory.Inventory{Nodes: v.Family(disk)}
}
