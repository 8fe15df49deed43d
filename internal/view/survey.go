package view

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/jedib0t/go-pretty/v6/text"

	"fundus/core/advice"
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
	Partial bool        `json:"partial"` // something could not be read: see unread
	Unread  []string    `json:"unread"`  // devices that did not answer, or could not be read
}

// FreeDoc is a gap of a disk.
type FreeDoc struct {
	Disk  string `json:"disk"`
	Start int64  `json:"start_bytes"`
	Size  int64  `json:"size_bytes"`
}

func surveyDocument(s *look.Survey) SurveyDoc {
	d := SurveyDoc{
		Head:    head("survey"),
		Machine: s.Inventory.Machine.String(),
		Started: s.Inventory.Machine.Firmware,
		Devices: []DeviceDoc{},
		Free:    []FreeDoc{},
		Unread:  []string{},
	}
	for _, disk := range s.Disks {
		family := slices.DeleteFunc(s.Inventory.Family(disk.Name), func(n inventory.Node) bool { return s.Matching != nil && n.Parent != "" && !s.Matching[n.Name] })
		d.Devices = append(d.Devices, devices(s.Inventory, family, s.Called)...)
		for _, n := range family {
			if n.Silent || n.Problem != "" {
				d.Partial, d.Unread = true, append(d.Unread, n.Name)
			}
		}
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
	t := &surveyed{p: p, Survey: r.Survey, odd: map[string]bool{}}
	for _, f := range finding.AtLeast(t.Findings, finding.Warning) {
		t.odd[f.Thing] = true
	}
	built := func(d inventory.Node) bool { return d.Form == inventory.Array || d.Form == inventory.Volume }
	for _, d := range t.Disks {
		if !built(d) {
			t.disk(d)
		}
	}
	for i, d := range slices.DeleteFunc(slices.Clone(t.Disks), func(d inventory.Node) bool { return !built(d) }) {
		if i == 0 {
			t.text("", p.paint(Strong, "volumes and arrays"))
		}
		t.disk(d)
	}
	p.wrap(0, "", p.paint(Strong, visible(t.Inventory.Machine.String()))+started(t.Inventory.Machine)+t.answer())
	if len(t.Disks) == 0 {
		p.printf("%s\n", nothingShown(t.Survey))
	}
	t.print()
	for _, a := range t.Inventory.Areas {
		if n, ok := t.Inventory.Node(a.Node); !ok || n.Minor() { // no row stands for it
			p.wrap(0, "swap: ", fmt.Sprintf("%s, %v, %v of it used", visible(cmp.Or(a.Path, a.Node)), a.Size, a.Used))
		}
	}
	if len(t.LeftOut) > 0 {
		p.printf("%s\n", p.paint(Free, fmt.Sprintf("left out: %s; fundus survey --all", leftOut(t.LeftOut))))
	}
	if slices.ContainsFunc(t.Disks, func(d inventory.Node) bool { return unknownParts(t.Inventory, d) }) {
		p.printf("%s\n", p.paint(Changed, "unknown: data that Fundus does not recognise; it is not empty"))
	}
	if slices.ContainsFunc(t.Disks, func(d inventory.Node) bool { return t.marked(d) > 0 }) {
		p.printf("%s\n", p.paint(Changed, "fundus verify says why a line is marked with !"))
	}
}

// surveyed lays out all disks in one table, so that what belongs together stands below each
// other.
type surveyed struct {
	*look.Survey
	p     *Printer
	odd   map[string]bool
	rows  [][]string
	lines []surveyLine
}

// surveyLine is a row of the table with what goes on behind it, or a line of its own.
type surveyLine struct {
	row  int // -1 for none
	tail string
	bar  string
}

func (t *surveyed) row(tail string, cells ...string) {
	t.lines = append(t.lines, surveyLine{row: len(t.rows), tail: tail})
	t.rows = append(t.rows, cells)
}

func (t *surveyed) text(lead, words string) {
	for _, line := range t.p.broken(len(lead), "", words) {
		t.lines = append(t.lines, surveyLine{row: -1, tail: line})
	}
}

// answer is what the first line says: how much there is, what is free, what needs attention.
func (t *surveyed) answer() string {
	disks, sum, free, gaps, marked := 0, quantity.Bytes(0), quantity.Bytes(0), 0, 0
	for _, d := range t.Disks {
		marked += t.marked(d)
		if d.Form == inventory.Array || d.Form == inventory.Volume {
			continue
		}
		disks, sum = disks+1, sum+d.Size
		for _, x := range pieces(t.Inventory, d) {
			if x.node == nil {
				free, gaps = free+x.size, gaps+1
			}
		}
	}
	if disks == 0 {
		return ""
	}
	words := fmt.Sprintf(": %s, %s", count(disks, "disk"), t.p.sum(sum))
	if gaps > 0 {
		words += fmt.Sprintf("; %s free in %s", t.p.sum(free), count(gaps, "gap"))
	}
	switch marked {
	case 0:
	case 1:
		words += "; 1 needs attention"
	default:
		words += fmt.Sprintf("; %d need attention", marked)
	}
	return words
}

// marked counts what of the disk needs attention.
func (t *surveyed) marked(d inventory.Node) (n int) {
	for _, x := range t.Inventory.Family(d.Name) {
		if t.deserves(x) {
			n++
		}
	}
	return n
}

func (t *surveyed) deserves(n inventory.Node) bool {
	return t.odd[n.Name] || n.Unrecognised()
}

func (t *surveyed) mark(n inventory.Node) string {
	if t.deserves(n) {
		return t.p.paint(Changed, "!")
	}
	return " "
}

// labelColumn is where the tail of a disk's row begins.
const labelColumn = "label"

// tall is the least height of a terminal on which bars are drawn: on a smaller one they take
// every second row of what is to be read.
const tall = 30

// print interleaves the rows of the table with the other lines. Bars are drawn where the
// whole fits into the terminal with them.
func (t *surveyed) print() {
	if len(t.lines) == 0 {
		return
	}
	heading := []string{"", "device", ">" + t.p.unit("begins"), ">" + t.p.unit("size"), "holds", labelColumn, "used at", ">full"}
	head, laid := t.p.laid(heading, t.rows, 6)
	at := utf8.RuneCountInString(head[:max(strings.Index(head, labelColumn), 0)])
	bars, wide := 0, t.p.Terminal && (t.p.Height == 0 || t.p.Height >= tall)
	for _, l := range t.lines {
		if l.bar != "" {
			bars++
		}
	}
	const others = 5 // lines around the table
	if t.p.Height > 0 && len(t.lines)+bars+others > t.p.Height {
		wide = false
	}
	if head != "" {
		t.p.printf("%s\n", head)
	}
	for _, l := range t.lines {
		if l.row < 0 {
			t.p.printf("%s\n", l.tail)
			continue
		}
		lines := laid[l.row]
		switch {
		case l.tail == "":
		case head == "":
			lines = append(lines, t.p.broken(4, "", l.tail)...)
		default:
			lead := lines[0] + strings.Repeat(" ", max(at-text.StringWidthWithoutEscSequences(lines[0]), 1))
			lines = t.p.broken(0, lead, l.tail) // a serial number that is cut is none
		}
		for _, line := range lines {
			t.p.printf("%s\n", line)
		}
		if l.bar != "" && wide {
			t.p.printf("  %s\n", l.bar)
		}
	}
	if wide && bars > 0 {
		t.p.printf("%s\n", t.p.paint(Free, "█ full, in use   ▓ full   ▁ space in it   ░ free"))
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
	return slices.ContainsFunc(v.Parts(d.Name), func(n inventory.Node) bool { return n.Unrecognised() })
}

// nothingShown says what was looked for in vain.
func nothingShown(s *look.Survey) string {
	f := s.Filter
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
	text := "there is nothing " + strings.Join(words, ", ")
	if here := s.Inventory.Kinds(); len(s.Filter.Kinds) > 0 && len(here) > 0 {
		text += "; kinds that are here: " + strings.Join(here, ", ")
	}
	return text
}

// leftOut counts what was not shown, or names it where it is little.
func leftOut(names []string) string {
	const few = 4
	if len(names) <= few {
		return visible(strings.Join(names, ", "))
	}
	return count(len(names), "loop device") + " and the like"
}

// disk adds the row of a disk, and of all that is on it.
func (t *surveyed) disk(d inventory.Node) {
	p, v := t.p, t.Inventory
	name := visible(d.Name)
	if d.Alias != "" {
		name = visible(d.Alias) + " (" + name + ")"
	}
	t.row(strings.Join(hardware(d), " · "), t.mark(d), p.paint(Strong, name), "", p.cell(d.Size, d.Geometry.Logical), scheme(d))
	if d.Problem != "" {
		t.text("      ", visible(d.Problem))
	}
	if d.Problem != "" && d.Table == nil && len(d.Contents) == 0 {
		for _, n := range v.Family(d.Name) {
			if used, _ := usedAt(v, t.Named, n); used != "" {
				t.text("      ", fmt.Sprintf("%s is used at %s", visible(n.Name), used))
			}
		}
		return
	}
	rows := t.partitions(d)
	switch {
	case len(rows) > 0:
		t.lines[len(t.lines)-1].bar = p.bar(v, d)
		for _, r := range rows {
			t.row("", r...)
		}
	case d.Hardware.State == inventory.NoMedium:
	case lostTable(d):
		t.text("      ", "every copy of its table is damaged; what is there can be searched for:")
		t.lines = append(t.lines, surveyLine{row: -1, tail: "        fundus table repair " + visible(d.Name) + " --search"})
	case d.Zeros || d.Table != nil:
		t.text("      ", p.paint(Free, "empty: no table, no file system"))
	default:
		t.text("      ", "unknown: it holds data that Fundus does not recognise. A lost table?")
		t.lines = append(t.lines, surveyLine{row: -1, tail: "        fundus table repair " + visible(d.Name) + " --search"})
	}
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

// partitions are the rows of what is on a disk.
func (t *surveyed) partitions(d inventory.Node) [][]string {
	p, v, list := t.p, t.Inventory, pieces(t.Inventory, d)
	if c, ok := d.Content(); ok && d.Table != nil { // a volume with a table in front
		list = slices.Insert(list, 0, piece{0, cmp.Or(c.Size, d.Size), &d})
	}
	var rows [][]string
	for _, x := range list {
		if !shown(t.Survey, x) {
			continue
		}
		start := p.cell(x.start, d.Geometry.Logical)
		if x.node == nil {
			size := p.cell(x.size, d.Geometry.Logical)
			rows = append(rows, []string{
				"", p.paint(Free, "·"), p.paint(Free, start), p.paint(Free, size), p.paint(Free, "free"), "", "", "",
			})
			continue
		}
		n := x.node
		label := ""
		if n.Number == 0 { // on the disk whole
			start = ""
		}
		if c, ok := n.Content(); ok {
			label = visible(c.Label)
		}
		used, state := usedAt(v, t.Named, *n)
		rows = append(rows, []string{
			t.mark(*n), visible(n.Name), start, p.sizeOf(*n, d), visible(cmp.Or(advice.Holds(*n), "empty")), label, p.paint(state, used),
			fullness(v, *n),
		})
	}
	return rows
}

// sizeOf is a cell with the size of a device, and where less of it is used, with that: the rest
// is nobody's.
func (p *Printer) sizeOf(n, disk inventory.Node) string {
	size := p.cell(n.Size, disk.Geometry.Logical)
	if c, ok := n.Content(); ok && c.HasUsage && c.Size > 0 && c.Size < n.Size-n.Size/100 {
		return p.cell(c.Size, disk.Geometry.Logical) + " of " + size
	}
	return size
}

// fullness is how full it is, in percent; empty where that is not known.
func fullness(v *inventory.Inventory, n inventory.Node) string {
	if of, known := filled(v, n); known {
		return fmt.Sprintf("%d%%", int64(of*100))
	}
	return ""
}

// filled is how full it is, from 0 to 1.
func filled(v *inventory.Inventory, n inventory.Node) (of float64, known bool) {
	if space, mounted := spaceOf(v, n); mounted { // newer than the superblock
		return float64(space.Total-space.Free) / float64(space.Total), true
	}
	if c, ok := n.Content(); ok && c.HasUsage && c.Size > 0 {
		return float64(c.Used) / float64(c.Size), true
	}
	return 0, false
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
			words = append(words, "in "+visible(u.Where))
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
		return "(" + cmp.Or(visible(placed(dir, !strings.HasPrefix(dir, "/"))), "swap") + ")", Plain
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
		return advice.Holds(d)
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
	case d.Layer.Kind != "":
		words = []string{visible(layerWords(d.Layer))}
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

// widest is how far a bar goes on a wide terminal.
const widest = 80

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

// bar draws the disk in proportion, and each of its parts as full as it is.
func (p *Printer) bar(v *inventory.Inventory, d inventory.Node) string {
	list := slices.DeleteFunc(pieces(v, d), func(x piece) bool { return x.node != nil && x.node.Holding() == inventory.Chain })
	width := min(p.Width, widest) - 6 - max(len(list)-1, 0)
	if len(list) == 0 || width < len(list) {
		return p.paint(Free, "▕"+strings.Repeat("░", max(width, 1))+"▏")
	}
	cells := share(list, d.Size, width)
	var parts []string
	for i, x := range list {
		if x.node == nil {
			parts = append(parts, p.paint(Free, strings.Repeat("░", cells[i])))
			continue
		}
		glyph, state, full := "▓", Plain, cells[i]
		if _, used := usedAt(v, nil, *x.node); used == InUse {
			glyph, state = "█", InUse
		} else if x.node.Holding() == inventory.Empty {
			full = 0
		}
		if of, known := filled(v, *x.node); known {
			full = min(int(math.Ceil(of*float64(cells[i]))), full)
		}
		parts = append(parts, p.paint(state, strings.Repeat(glyph, full)+strings.Repeat("▁", cells[i]-full)))
	}
	return "▕" + strings.Join(parts, "│") + "▏"
}
