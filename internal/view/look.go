package view

import (
	"encoding/hex"
	"fmt"
	"fundus/internal/look"
	"strings"

	"fundus/core/finding"
	"fundus/core/inventory"
)

// InspectDoc is the document of kind inspection.
type InspectDoc struct {
	Head
	Device     DeviceDoc         `json:"device"`
	Alignment  string            `json:"alignment"`
	Differs    []string          `json:"options_differ"` // of its mounts from fstab
	Places     []FactDoc         `json:"places"`         // partitions and gaps of a disk
	References []string          `json:"references"`
	Findings   []finding.Finding `json:"findings"`
	Structures []StructureDoc    `json:"structures,omitempty"` // with --fields
	BytesAt    int64             `json:"bytes_start,omitempty"`
	Bytes      string            `json:"bytes,omitempty"` // with --bytes, in hexadecimal
}

// FindingsDoc is the document of kinds verification and fstab-check.
type FindingsDoc struct {
	Head
	Findings []finding.Finding `json:"findings"`
}

// RehearsalDoc is the document of kind rehearsal.
type RehearsalDoc struct {
	Head
	Machine string    `json:"machine"`
	Verdict string    `json:"verdict"`
	Lines   []LineDoc `json:"lines"`
}

// LineDoc is one line of fstab.
type LineDoc struct {
	Number     int    `json:"line"`
	Spec       string `json:"spec"`
	MountPoint string `json:"mount_point"`
	Type       string `json:"type"`
	Device     string `json:"device,omitempty"`
	Outcome    string `json:"outcome"`
	Reason     string `json:"reason"`
	NoFail     bool   `json:"nofail"`
}

func inspectDocument(i *look.Inspection) InspectDoc {
	v := &inventory.Inventory{Nodes: []inventory.Node{i.Node}, Uses: i.Uses}
	doc := InspectDoc{Head: head("inspection"), Device: deviceDoc(v, i.Node), Alignment: i.Alignment, Differs: []string{}, Places: []FactDoc{}, References: orEmpty(i.References),
		Findings: orEmpty(i.Findings), Structures: structureDocs(i), BytesAt: i.BytesAt, Bytes: hex.EncodeToString(i.Bytes)}
	for _, u := range i.Uses {
		if words := i.Differs(u); words != "" {
			doc.Differs = append(doc.Differs, u.Where+": "+words)
		}
	}
	for _, f := range i.Places {
		doc.Places = append(doc.Places, FactDoc{f.Name, f.Value})
	}
	return doc
}

func findingsDocument(kind string, list []finding.Finding) FindingsDoc {
	return FindingsDoc{head(kind), orEmpty(list)}
}

func rehearsalDocument(r *look.Rehearsal) RehearsalDoc {
	d := RehearsalDoc{head("rehearsal"), r.Machine, r.Verdict, []LineDoc{}}
	for _, l := range r.Lines {
		d.Lines = append(d.Lines, LineDoc{l.Number, l.Spec, l.Dir, l.Kind, l.Device, l.Outcome, l.Reason, l.NoFail})
	}
	return d
}

// Inspect prints everything known of one device.
func (p *Printer) Inspect(i *look.Inspection) error {
	if p.JSON {
		return p.document(inspectDocument(i))
	}
	n := i.Node
	head := fmt.Sprintf("%s: %s", visible(n.Name), summary(n))
	p.printf("%s\n", p.paint(Strong, head))
	rows := [][]string{}
	add := func(name, format string, args ...any) {
		rows = append(rows, []string{name, visible(fmt.Sprintf(format, args...))})
	}
	add("device", "%s", strings.Join(hardware(i.Disk), " · "))
	add("path", "%s", n.Path)
	add("size", "%d sectors × %d bytes = %d bytes (%v, %s)", int64(n.Size)/max(1, n.Geometry.Logical), n.Geometry.Logical, n.Size, n.Size, n.Size.SI())
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
		add("named by", "%s", line)
	}
	if believed := n.Believed(); believed != "" {
		add("believed", "%s", believed)
	}
	if n.Problem != "" {
		add("problem", "%s", n.Problem)
	}
	p.facts(rows)
	for _, c := range n.Contents {
		p.printf("\n%s\n", p.paint(Strong, visible(strings.TrimSpace(c.Kind+" "+c.Version))))
		rows = nil
		add("state", "%s", i.State(c))
		if c.Label != "" {
			add("label", "%s", c.Label)
		}
		if c.UUID != "" {
			add("UUID", "%s", c.UUID)
		}
		if c.Devices != "" {
			add("spans", "%s", c.Devices)
		}
		for _, s := range c.Signatures {
			add("signature", "byte %d, %d long", s.Start, s.Count)
		}
		for _, f := range c.Facts {
			add(f.Name, "%s", f.Value)
		}
		for _, u := range c.Unknown {
			add("unknown", "%s: it is not written to", u)
		}
		p.facts(rows)
	}
	p.fields(i)
	p.bytes(i)
	if len(i.Findings) > 0 {
		p.printf("\n")
		p.findings(i.Findings)
	}
	return nil
}

func summary(n inventory.Node) string {
	if holds := n.Holds(); holds != "" {
		if c, ok := n.Content(); ok && c.Label != "" {
			return holds + " " + visible(c.Label)
		}
		return holds
	}
	if n.Table != nil {
		return strings.ToUpper(string(n.Table.Scheme))
	}
	return "empty"
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
	add("alignment", "%s", i.Alignment)
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
			words += fmt.Sprintf(", and %d logical partitions", logical)
		}
		add("table", "%s", words)
		for _, f := range i.Places {
			add(f.Name, "%s", f.Value)
		}
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

// Verify prints findings, or one line that says what was looked at.
func (p *Printer) Verify(v *look.Verification) error {
	if p.JSON {
		return p.document(findingsDocument("verification", v.Findings))
	}
	looked := fmt.Sprintf("%s, %s and %s of fstab", count(v.Disks, "disk"), count(v.Partitions, "partition"), count(v.Line, "line"))
	if v.Elsewhere > 0 {
		looked += fmt.Sprintf(", and %s elsewhere", count(v.Elsewhere, "line"))
	}
	if len(v.Findings) == 0 {
		p.printf("%s\n", p.paint(InUse, "in order: "+looked))
		return nil
	}
	worst := finding.Worst(v.Findings)
	p.printf("%s\n\n", p.paint(stateOf(worst), fmt.Sprintf("%s; looked at %s", tally(v.Findings), looked)))
	p.findings(v.Findings)
	return nil
}

func (p *Printer) findings(list []finding.Finding) {
	for i, f := range list {
		if i > 0 {
			p.printf("\n")
		}
		p.printf("%s  %s  %s\n", p.paint(stateOf(f.Severity), string(f.Severity)), p.paint(Strong, visible(f.Thing)), f.ID)
		p.wrap(4, "", visible(f.Text)+".")
		p.wrap(4, "why: ", f.Why+".")
		if f.Mend != "" {
			p.wrap(4, "do:  ", visible(f.Mend))
		} else if f.Remedy != "" {
			p.wrap(4, "do:  ", visible(f.Remedy)+".")
		}
	}
}

func stateOf(s finding.Severity) State {
	switch s {
	case finding.Error:
		return Lost
	case finding.Warning:
		return Changed
	}
	return Plain
}

func tally(list []finding.Finding) string {
	n := map[finding.Severity]int{}
	for _, f := range list {
		n[f.Severity]++
	}
	var words []string
	for _, s := range []finding.Severity{finding.Error, finding.Warning, finding.Note} {
		if n[s] > 0 {
			words = append(words, count(n[s], string(s)))
		}
	}
	return strings.Join(words, ", ")
}

func count(n int, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return fmt.Sprintf("%d %ss", n, thing)
}

// Rehearse prints what the next boot would do.
func (p *Printer) Rehearse(r *look.Rehearsal) error {
	if p.JSON {
		return p.document(rehearsalDocument(r))
	}
	state := InUse
	switch r.Verdict {
	case "emergency shell":
		state = Lost
	case "comes up with delays":
		state = Changed
	}
	left, unknown := 0, 0
	for _, l := range r.Lines {
		switch l.Outcome {
		case "left out":
			left++
		case "unknown":
			unknown++
		}
	}
	verdict := fmt.Sprintf("next boot of %s: %s", r.Machine, r.Verdict)
	if left > 0 {
		verdict += fmt.Sprintf(", without %s", count(left, "line"))
	}
	if unknown > 0 {
		verdict += fmt.Sprintf(", as far as can be told: %s unknown", count(unknown, "line"))
		if state == InUse {
			state = Changed
		}
	}
	p.printf("%s\n\n", p.paint(state, verdict))
	var rows [][]string
	for _, l := range r.Lines {
		rows = append(rows, []string{fmt.Sprint(l.Number), visible(l.Dir), visible(l.Kind), l.Outcome, visible(l.Device)})
	}
	p.columns(2, []string{">line", "mount point", "type", "outcome", "device"}, rows)
	for _, l := range r.Lines {
		if l.Outcome == "mounted" && !strings.Contains(l.Reason, ";") {
			continue
		}
		p.printf("\n")
		p.wrap(2, fmt.Sprintf("line %d: ", l.Number), visible(l.Reason)+".")
		if l.Next != "" {
			p.wrap(2, "do:     ", visible(l.Next))
		}
	}
	return nil
}
