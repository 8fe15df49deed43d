package view

import (
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strings"

	"fundus/core/advice"
	"fundus/core/inventory"
	"fundus/core/way"
	"fundus/internal/look"
)

// InspectDoc is the document of kind inspection.
type InspectDoc struct {
	Head
	Device     DeviceDoc      `json:"device"`
	Alignment  string         `json:"alignment"`
	Started    string         `json:"firmware,omitempty"` // of the machine: UEFI or BIOS
	Differs    []string       `json:"options_differ"`     // of its mounts from fstab
	Places     []FactDoc      `json:"places"`             // partitions and gaps of a disk
	Settings   []FactDoc      `json:"settings"`           // of its content, as they are now
	Remains    *RemainsDoc    `json:"remains,omitempty"`  // of a file system whose first superblock is gone
	References []string       `json:"references"`
	Findings   []FindingDoc   `json:"findings"`
	Structures []StructureDoc `json:"structures,omitempty"` // with --fields
	BytesAt    int64          `json:"bytes_start,omitempty"`
	Bytes      string         `json:"bytes,omitempty"` // with --bytes, in hexadecimal
}

// RemainsDoc is what copies of a superblock say of a file system whose first one is gone.
type RemainsDoc struct {
	Kind      string  `json:"kind"`
	Label     string  `json:"label,omitempty"`
	UUID      string  `json:"uuid,omitempty"`
	SizeBytes int64   `json:"size_bytes"`
	Copies    []int64 `json:"copies_at_bytes"`
	Looked    int     `json:"places_looked_at"`
	Option    string  `json:"mount_option,omitempty"` // with which the kernel mounts it, for reading
}

func remainsDoc(i *look.Inspection) *RemainsDoc {
	r := i.Remains
	if r == nil {
		return nil
	}
	return &RemainsDoc{r.Content.Kind, r.Content.Label, r.Content.UUID, int64(r.Content.Size), r.Copies, r.Looked, r.Option}
}

func inspectDocument(i *look.Inspection) InspectDoc {
	v := &inventory.Inventory{Nodes: []inventory.Node{i.Node}, Uses: i.Uses}
	doc := InspectDoc{Head: head("inspection"),
		Device: deviceDoc(v, i.Node, map[string]inventory.Called{i.Node.Name: i.Called}), Alignment: i.Alignment,
		Started: i.Started, Differs: []string{}, Places: []FactDoc{}, Settings: []FactDoc{}, Remains: remainsDoc(i),
		References: orEmpty(i.References),
		Findings:   findingDocs(i.Findings), Structures: structureDocs(i), BytesAt: i.BytesAt, Bytes: hex.EncodeToString(i.Bytes)}
	for _, u := range i.Uses {
		if words := i.Differs(u); words != "" {
			doc.Differs = append(doc.Differs, u.Where+": "+words)
		}
	}
	for _, f := range i.Places {
		doc.Places = append(doc.Places, FactDoc{f.Name, f.Value})
	}
	for _, s := range i.Settings {
		doc.Settings = append(doc.Settings, FactDoc{s.Key, s.Word})
	}
	return doc
}

// Inspection is everything known of one device.
type Inspection struct{ *look.Inspection }

// Document implements Report.
func (r Inspection) Document() any { return inspectDocument(r.Inspection) }

// Words implements Report.
func (r Inspection) Words(p *Printer) {
	i := r.Inspection
	n := i.Node
	head := fmt.Sprintf("%s: %s", visible(n.Name), p.headline(i))
	p.wrap(0, "", p.paint(Strong, head))
	rows := [][]string{}
	add := func(name, format string, args ...any) {
		rows = append(rows, []string{name, visible(fmt.Sprintf(format, args...))})
	}
	add("device", "%s", strings.Join(hardware(i.Disk), " · "))
	add("path", "%s", n.Path)
	add("size", "%d sectors × %d bytes = %d bytes (%s)", int64(n.Size)/max(1, n.Geometry.Logical), n.Geometry.Logical, n.Size, p.sizeAlone(n))
	add("sectors", "%d bytes logical, %d bytes physical", n.Geometry.Logical, n.Geometry.Physical)
	p.diskFacts(i, add)
	if n.Form == inventory.Partition {
		add("place", "partition %d of %s, byte %d to %d", n.Number, n.Parent, n.Start, n.Start+n.Size-1)
		add("name", "%s", n.Entry.Name)
		add("type", "%s", i.Type)
		add("PARTUUID", "%s", n.Entry.UUID)
	}
	for _, u := range i.Uses {
		useFacts(i, u, add)
	}
	for _, link := range n.Links {
		add("link", "%s", link)
	}
	for _, line := range i.References {
		add("named by", "%s", blanks(line))
	}
	if believed := advice.Believed(n); believed != "" {
		add("believed", "%s", believed)
	}
	if n.Problem != "" {
		add("problem", "%s", n.Problem)
	}
	for _, f := range i.CopiesSay() {
		add(f.Name, "%s", f.Value)
	}
	p.facts(rows)
	if n.Table != nil {
		p.partitionTable(n, i.Parts, i.Step)
		p.identifiers(n, i.Parts)
	}
	whole := len(i.Structures) > 0
	for k, c := range n.Contents {
		if c.Class == "table" && !whole { // shown above; what is wrong with it is a finding
			continue
		}
		p.content(i, k, whole)
	}
	p.fields(i)
	p.bytes(i)
	if r := i.Remains; r != nil && r.Option != "" {
		p.printf("\n")
		p.wrap(0, "", "to look at its files, and write nothing:")
		p.Next(way.Mount(n.Name, "DIRECTORY", "--options=ro,"+r.Option).Asking("DIRECTORY"))
	}
	if len(i.Findings) > 0 {
		p.printf("\n")
		p.findings(i.Findings)
	}
}

// headline says the most important of a device: what it holds, how large it is, and where it
// is used or would be.
func (p *Printer) headline(i *look.Inspection) string {
	n := i.Node
	words := summary(n)
	switch {
	case i.Remains != nil && len(n.Contents) == 0:
		return fmt.Sprintf("an %s whose first superblock is gone, %s; %s", visible(strings.TrimSpace(i.Remains.Content.Kind+" "+i.Remains.Content.Label)), p.sizeAlone(n), i.CopiesAgree())
	case n.Holding() == inventory.Unknown:
		return words + ": it holds data that Fundus does not recognise"
	case n.Table != nil && bare(n):
		return fmt.Sprintf("%s, %s, %s, %s", words, p.sizeAlone(n), count(len(n.Table.Parts), "partition"), p.gapWords(n, i.Step))
	}
	if i.Damaged() {
		words += " with a damaged superblock"
	}
	words += ", " + p.sizeAlone(n)
	for _, u := range i.Uses {
		switch u.How {
		case inventory.Mounted:
			words += ", mounted at " + visible(u.Where)
		case inventory.SwapOn:
			words += ", on as swap"
		default:
			words += ", part of " + visible(u.Where)
		}
	}
	c, ok := n.Content()
	if len(i.Uses) == 0 && ok && c.Class == "file system" {
		words += ", not mounted"
	}
	for _, dir := range slices.Sorted(maps.Keys(i.Wanted)) {
		if !slices.ContainsFunc(i.Uses, func(u inventory.Use) bool { return u.Where == dir }) {
			words += ", " + atBoot(dir)
		}
	}
	return words
}

// sizeAlone is the size of a device in the style that was asked for.
func (p *Printer) sizeAlone(n inventory.Node) string { return p.size(n.Size, n.Geometry.Logical) }

// atBoot says for what a line of fstab names it that is not so now.
func atBoot(dir string) string {
	if !strings.HasPrefix(dir, "/") { // of swap
		return "turned on at each boot, not on now"
	}
	return "in fstab at " + visible(dir)
}

// bare reports whether nothing but a table is on the disk.
func bare(n inventory.Node) bool {
	_, ok := n.Content()
	return !ok
}

func summary(n inventory.Node) string {
	switch {
	case n.Table != nil && len(n.Contents) == 0 && (n.Holding() == inventory.Parts || n.Holding() == inventory.Vacant):
		return n.Table.Scheme.Name()
	case lostTable(n):
		return "a partition table that is damaged in every copy"
	}
	return visible(advice.Words(n))
}

// diskFacts are the figures of a whole disk: what it says of itself, and where
// partitions begin on it.
func (p *Printer) diskFacts(i *look.Inspection, add func(name, format string, args ...any)) {
	n, h := i.Node, i.Node.Hardware
	if n.Parent != "" {
		return
	}
	if n.Geometry.MinIO > n.Geometry.Physical || n.Geometry.OptIO > 0 {
		add("best I/O", "%d bytes at least, %d bytes best", max(n.Geometry.MinIO, n.Geometry.Physical), n.Geometry.OptIO)
	}
	if n.Geometry.Offset > 0 {
		add("offset", "the first physical sector begins %d bytes in", n.Geometry.Offset)
	}
	if len(i.Structures) > 0 {
		add("alignment", "%s", i.Alignment)
	}
	if i.Started != "" {
		add("machine", "started by %s", i.Started)
	}
	add("WWN", "%s", h.WWN)
	add("firmware", "%s", h.Firmware)
	if h.Discard > 0 {
		add("discard", "in steps of %v", h.Discard)
	}
	add("cache", "%s", h.WriteCache)
	add("zones", "%s", h.Zoned)
	if n.Table != nil {
		used, logical := n.Table.Used()
		words := fmt.Sprintf("%s %s, %d of %d entries used", strings.ToUpper(string(n.Table.Scheme)), n.Table.ID, used, n.Table.Slots)
		if logical > 0 {
			words += ", and " + count(logical, "logical partition")
		}
		add("table", "%s", words)
	}
}

// useFacts says how a node is used: for a mount the options that it has beside
// those of fstab, and how full it is.
func useFacts(i *look.Inspection, u inventory.Use, add func(name, format string, args ...any)) {
	if s := u.Space; u.How == inventory.SwapOn && s.Total > 0 {
		add("swap", "in use with priority %d: %d of %d bytes used (%v of %v)", u.Priority, s.Total-s.Free, s.Total, s.Total-s.Free, s.Total)
		return
	}
	add(string(u.How), "%s", strings.TrimSpace(u.Where+" "+u.Elsewhere))
	if u.How != inventory.Mounted {
		return
	}
	add("options", "%s", u.Options)
	if own := strings.TrimPrefix(strings.TrimPrefix(u.Super, "rw"), "ro"); own != "" {
		add("of all", "%s at every place", strings.TrimPrefix(own, ","))
	}
	if want, ok := i.Wanted[u.Where]; ok {
		add("in fstab", "%s", want)
		add("differs", "%s", i.Differs(u))
	}
	if s := u.Space; s.Total > 0 {
		add("space", "%d of %d bytes free (%v of %v)", s.Free, s.Total, s.Free, s.Total)
		if s.Files > 0 {
			add("inodes", "%d of %d free", s.Left, s.Files)
		}
	}
}

// facts prints names and values; a value that is too long goes on below.
func (p *Printer) facts(rows [][]string) {
	widest := 0
	for _, r := range rows {
		widest = max(widest, len([]rune(r[0])))
	}
	for _, r := range rows {
		if r[1] != "" {
			p.wrap(2, fmt.Sprintf("%-*s  ", widest, r[0]), r[1])
		}
	}
}

// content is one thing that the device holds; whole with where its signatures lie.
func (p *Printer) content(i *look.Inspection, number int, whole bool) {
	c := i.Node.Contents[number]
	p.printf("\n%s\n", p.paint(Strong, visible(strings.TrimSpace(c.Kind+" "+c.Version))))
	rows := [][]string{}
	add := func(name, format string, args ...any) {
		rows = append(rows, []string{name, visible(fmt.Sprintf(format, args...))})
	}
	add("state", "%s", i.State(c))
	if c.Label != "" {
		add("label", "%s", c.Label)
	}
	if c.UUID != "" {
		add("UUID", "%s", c.UUID)
	}
	if c.Spans() {
		add("spans", "%s", memberWords(c.Member.Index, c.Member.Of))
	}
	for _, s := range c.Signatures {
		if !whole {
			break
		}
		add("signature", "byte %d, %d long", s.Start, s.Count)
	}
	for _, f := range c.Facts {
		add(f.Name, "%s", p.styled(f.Value, c.Size, c.Size-min(c.Used, c.Size), c.Used))
	}
	if len(i.Settings) > 0 && len(i.Node.Contents) == 1 {
		var words []string
		for _, s := range i.Settings {
			words = append(words, s.Key+"="+s.Word)
		}
		add("settings", "%s", strings.Join(words, " "))
	}
	for _, u := range c.Unknown {
		add("unknown", "%s: it is not written to", u)
	}
	p.facts(rows)
}
