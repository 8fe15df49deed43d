package view

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"fundus/core/finding"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/internal/look"
)

// SurveyDoc is the document of kind survey.
type SurveyDoc struct {
	Head
	Machine string      `json:"machine"`
	Started string      `json:"firmware,omitempty"` // UEFI or BIOS
	Devices []DeviceDoc `json:"devices"`
	Free    []FreeDoc   `json:"free"`
}

// FreeDoc is a gap of a disk.
type FreeDoc struct {
	Disk  string `json:"disk"`
	Start int64  `json:"start_bytes"`
	Size  int64  `json:"size_bytes"`
}

func surveyDocument(s *look.Survey) SurveyDoc {
	d := SurveyDoc{Head: head("survey"), Machine: s.Inventory.Machine.String(), Started: s.Inventory.Machine.Firmware, Devices: []DeviceDoc{}, Free: []FreeDoc{}}
	for _, disk := range s.Disks {
		family := slices.DeleteFunc(s.Inventory.Family(disk.Name), func(n inventory.Node) bool { return s.Matching != nil && n.Parent != "" && !s.Matching[n.Name] })
		d.Devices = append(d.Devices, devices(s.Inventory, family)...)
		for _, x := range pieces(s.Inventory, disk) {
			if x.node == nil && shown(s, x) {
				d.Free = append(d.Free, FreeDoc{disk.Name, int64(x.start), int64(x.size)})
			}
		}
	}
	return d
}

// Survey is a block for each disk.
type Survey struct{ *look.Survey }

// Document implements Report.
func (r Survey) Document() any { return surveyDocument(r.Survey) }

// Words implements Report.
func (r Survey) Words(p *Printer) {
	s := r.Survey
	odd := map[string]bool{}
	for _, f := range finding.AtLeast(s.Findings, finding.Warning) {
		odd[f.Thing] = true
	}
	p.printf("%s%s\n", p.paint(Strong, visible(s.Inventory.Machine.String())), started(s.Inventory.Machine))
	built := func(d inventory.Node) bool { return d.Form == inventory.Array || d.Form == inventory.Volume }
	for _, d := range s.Disks {
		if !built(d) {
			p.printf("\n")
			p.disk(s, d, odd)
		}
	}
	if slices.ContainsFunc(s.Disks, built) {
		p.printf("\n%s\n", p.paint(Strong, "volumes and arrays"))
		for _, d := range s.Disks {
			if built(d) {
				p.printf("\n")
				p.disk(s, d, odd)
			}
		}
	}
	if len(s.Disks) == 0 {
		p.printf("\n%s\n", nothingShown(s.Filter))
	}
	p.printf("\n")
	if p.Terminal && len(s.Disks) > 0 {
		p.printf("%s\n", p.paint(Free, "█ in use   ▓ holds something   ▁ empty   ░ free   ! deserves a look"))
	}
	if len(s.LeftOut) > 0 {
		p.printf("%s\n", p.paint(Free, fmt.Sprintf("left out: %s; fundus survey --all", leftOut(s.LeftOut))))
	}
	if slices.ContainsFunc(s.Disks, func(d inventory.Node) bool { return unknownParts(s.Inventory, d) }) {
		p.printf("%s\n", p.paint(Changed, "unknown: data that Fundus does not recognise; it is not empty"))
	}
	marked := 0
	for _, d := range s.Disks {
		for _, n := range s.Inventory.Family(d.Name) {
			if odd[n.Name] {
				marked++
			}
		}
	}
	if marked > 0 {
		p.printf("%s\n", p.paint(Changed, fmt.Sprintf("%d marked with !: fundus verify says why", marked)))
	}
}

// started says what started the machine, where that is known.
func started(m inventory.Machine) string {
	if m.Firmware == "" {
		return ""
	}
	return ", started by " + m.Firmware
}

// unknownParts reports whether a partition of the disk holds what nobody recognises.
func unknownParts(v *inventory.Inventory, d inventory.Node) bool {
	return slices.ContainsFunc(v.Parts(d.Name), func(n inventory.Node) bool { return n.Holds() == "unknown" })
}

// nothingShown says what was looked for in vain.
func nothingShown(f look.SurveyFilter) string {
	var words []string
	if f.Unused {
		words = append(words, "unused: every device holds something or is used")
	}
	if len(f.Kinds) > 0 {
		words = append(words, "that holds "+visible(strings.Join(f.Kinds, " or ")))
	}
	if f.Removable {
		words = append(words, "on a disk that can be taken out")
	}
	if len(words) == 0 {
		return "there is no disk"
	}
	return "there is nothing " + strings.Join(words, ", ")
}

// leftOut counts what was not shown, or names it where it is little.
func leftOut(names []string) string {
	const few = 4
	if len(names) <= few {
		return visible(strings.Join(names, ", "))
	}
	return count(len(names), "loop device") + " and the like"
}

func (p *Printer) disk(s *look.Survey, d inventory.Node, odd map[string]bool) {
	v := s.Inventory
	right := fmt.Sprintf("%s  %s", p.size(d.Size, d.Geometry.Logical), scheme(d))
	name := visible(d.Name)
	if d.Alias != "" {
		name = visible(d.Alias) + " (" + name + ")"
	}
	left := fmt.Sprintf("%-3s  %s", name, strings.Join(hardware(d), " · "))
	mark := " "
	if odd[d.Name] || d.Holds() == "unknown" {
		mark = "!"
	}
	gap := max(min(p.Width, widest)-len([]rune(left))-len([]rune(right))-1, 2)
	p.printf("%s%s%s%s\n", p.paint(Changed, mark), p.paint(Strong, left), strings.Repeat(" ", gap), right)
	if d.Problem != "" {
		p.wrap(6, "", visible(d.Problem))
	}
	if d.Problem != "" && d.Table == nil && len(d.Contents) == 0 {
		for _, n := range v.Family(d.Name) {
			if used, _ := usedAt(v, s.Named, n); used != "" {
				p.wrap(6, "", fmt.Sprintf("%s is used at %s", visible(n.Name), used))
			}
		}
		return
	}
	if p.Terminal {
		p.printf("      %s\n", p.bar(v, d))
	}
	rows := p.rows(s, d, odd)
	switch {
	case len(rows) > 0:
	case d.Hardware.State == inventory.NoMedium:
		return
	case d.Zeros || d.Table != nil:
		p.printf("      %s\n", p.paint(Free, "empty: no table, no file system"))
		return
	default:
		words := "unknown: it holds data that Fundus does not recognise. A lost table?"
		if lostTable(d) {
			words = "its partition table is damaged in every copy; what is on the partitions can be searched for:"
		}
		p.wrap(6, "", words)
		p.printf("        fundus table repair %s --search\n", visible(d.Name))
		return
	}
	p.columns(5, []string{"", ">#", ">start", ">size", "holds", "label", "used at", ">full"}, rows)
}

// piece is a partition, or the part of a gap that a partition could take, in
// order of its start.
type piece struct {
	start, size quantity.Bytes
	node        *inventory.Node
}

func pieces(v *inventory.Inventory, d inventory.Node) []piece {
	if d.Table == nil {
		if len(d.Contents) == 0 || lostTable(d) {
			return nil
		}
		return []piece{{0, d.Size, &d}}
	}
	var out []piece
	for _, n := range v.Parts(d.Name) {
		out = append(out, piece{n.Start, n.Size, &n})
	}
	for _, gap := range d.Table.Gaps() {
		start, size, ok := d.Table.Bytes(d.Table.Room(gap, quantity.MiB))
		if ok && size > 0 {
			out = append(out, piece{start, size, nil})
		}
	}
	slices.SortStableFunc(out, func(a, b piece) int { return int(min(max(a.start-b.start, -1), 1)) })
	return out
}

// shown reports whether the survey's filter lets the piece pass.
func shown(s *look.Survey, x piece) bool {
	if s.Matching == nil {
		return true
	}
	if x.node == nil {
		return s.Filter.Unused
	}
	return s.Matching[x.node.Name]
}

func (p *Printer) rows(s *look.Survey, d inventory.Node, odd map[string]bool) [][]string {
	v, list := s.Inventory, pieces(s.Inventory, d)
	if c, ok := d.Content(); ok && d.Table != nil { // a volume with a table in front
		list = slices.Insert(list, 0, piece{0, cmp.Or(c.Size, d.Size), &d})
	}
	var rows [][]string
	for _, x := range list {
		if !shown(s, x) {
			continue
		}
		start, size := p.size(x.start, d.Geometry.Logical), p.size(x.size, d.Geometry.Logical)
		if x.node == nil {
			rows = append(rows, []string{"", p.paint(Free, "·"), p.paint(Free, start), p.paint(Free, size), p.paint(Free, "free"), "", "", ""})
			continue
		}
		n := x.node
		mark, number, label, full := " ", "-", "", ""
		if odd[n.Name] || n.Holds() == "unknown" {
			mark = p.paint(Changed, "!")
		}
		if n.Number > 0 {
			number = fmt.Sprint(n.Number)
		}
		c, ok := n.Content()
		if ok {
			label = visible(c.Label)
		}
		if ok && c.HasUsage && c.Size > 0 {
			full = fmt.Sprintf("%d%%", int64(float64(c.Used)/float64(c.Size)*100))
		}
		if space, mounted := spaceOf(v, *n); mounted { // newer than the superblock
			full = fmt.Sprintf("%d%%", int64(float64(space.Total-space.Free)/float64(space.Total)*100))
		}
		used, state := usedAt(v, s.Named, *n)
		holds := n.Holds()
		if holds == "" {
			holds = "empty"
		}
		rows = append(rows, []string{mark, number, start, size, holds, label, p.paint(state, used), full})
	}
	return rows
}

// spaceOf is how full a node is, by its mount, or by the list of swap.
func spaceOf(v *inventory.Inventory, n inventory.Node) (inventory.Space, bool) {
	for _, u := range v.UsesOf(n.Name) {
		if u.Space.Total > 0 {
			return u.Space, true
		}
	}
	return inventory.Space{}, false
}

// usedAt says where a node is used, else which line of fstab names it.
func usedAt(v *inventory.Inventory, named map[string]string, n inventory.Node) (string, State) {
	var words []string
	for _, u := range v.UsesOf(n.Name) {
		switch u.How {
		case inventory.SwapOn:
			words = append(words, "swap")
		case inventory.Held:
			words = append(words, "part of "+visible(u.Where))
		case inventory.Mounted:
			words = append(words, strings.TrimSpace(visible(u.Where)+map[bool]string{true: " (elsewhere)"}[u.Elsewhere != ""]))
		}
	}
	if len(words) > 0 {
		return strings.Join(words, " "), InUse
	}
	if _, ok := n.Content(); !ok {
		return "", Plain
	}
	if dir := named[n.Name]; dir != "" {
		return "(" + visible(dir) + ")", Plain
	}
	return "", Plain
}

func scheme(d inventory.Node) string {
	if d.Table != nil {
		return strings.ToUpper(string(d.Table.Scheme))
	}
	switch {
	case lostTable(d):
		return "table lost"
	case d.Silent, d.Hardware.State == inventory.NoMedium:
		return d.Holds()
	case d.Problem != "":
		return "unreadable"
	}
	return "no table"
}

// lostTable reports whether there was a table, of which no copy is good.
func lostTable(d inventory.Node) bool { return d.Table == nil && len(d.TableBad) > 0 }

func hardware(d inventory.Node) []string {
	kind := "SSD"
	if d.Hardware.Rotational {
		kind = "disk"
	}
	if d.Hardware.Removable {
		kind = "removable"
	}
	words := []string{strings.TrimSpace(kind + " " + strings.ToUpper(d.Hardware.Bus))}
	switch {
	case d.Form == inventory.Image:
		words = []string{"image file"}
	case d.Layer != "":
		words = []string{visible(d.Layer)}
	case d.Hardware.Backing != "":
		words = []string{"loop device", "carries " + visible(d.Hardware.Backing)}
	case d.Minor():
		words = []string{d.Hardware.Bus}
	}
	if len(d.BuiltOn) > 0 {
		words = append(words, "on "+visible(strings.Join(d.BuiltOn, ", ")))
	}
	for _, w := range []string{d.Hardware.Vendor, d.Hardware.Model, d.Hardware.Serial} {
		if w != "" {
			words = append(words, visible(w))
		}
	}
	if d.Hardware.ReadOnly {
		words = append(words, "read-only")
	}
	if d.Hardware.State != "" {
		words = append(words, visible(d.Hardware.State))
	}
	return words
}

// widest is how far a disk's heading and its bar go on a wide terminal.
const widest = 88

// share gives each piece its cells: in proportion, at least one, and what is
// left over or missing to the largest.
func share(list []piece, whole quantity.Bytes, width int) []int {
	cells := make([]int, len(list))
	largest, left := 0, width
	for i, x := range list {
		cells[i] = max(int(float64(x.size)/float64(whole)*float64(width)), 1)
		left -= cells[i]
		if x.size > list[largest].size {
			largest = i
		}
	}
	cells[largest] = max(cells[largest]+left, 1)
	return cells
}

// bar draws the disk in proportion.
func (p *Printer) bar(v *inventory.Inventory, d inventory.Node) string {
	list := slices.DeleteFunc(pieces(v, d), func(x piece) bool { return x.node != nil && x.node.Holds() == "extended" })
	width := min(p.Width, widest) - 8 - max(len(list)-1, 0)
	if len(list) == 0 || width < len(list) {
		return p.paint(Free, "▕"+strings.Repeat("░", max(width, 1))+"▏")
	}
	cells := share(list, d.Size, width)
	var parts []string
	for i, x := range list {
		glyph, state := "░", Free
		if x.node != nil {
			glyph, state = "▁", Plain
			if _, used := usedAt(v, nil, *x.node); used == InUse {
				glyph, state = "█", InUse
			} else if x.node.Holds() != "" {
				glyph = "▓"
			}
		}
		parts = append(parts, p.paint(state, strings.Repeat(glyph, cells[i])))
	}
	return "▕" + strings.Join(parts, "│") + "▏"
}
