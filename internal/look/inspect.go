package look

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/extent"
	"fundus/core/finding"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/quantity"
	"fundus/core/table"
	"fundus/core/target"
	"fundus/core/text/fstab"
	"fundus/core/verify"
	"fundus/internal/config"
	"fundus/internal/machine"
)

// Inspection is everything known of one thing.
type Inspection struct {
	Node       inventory.Node
	Called     inventory.Called
	Disk       inventory.Node // it itself, or the disk that it is part of
	Type       string         // of a partition, with what it means
	Uses       []inventory.Use
	References []string          // lines of text files that name it
	Remains    *fs.Remains       // of a file system whose first superblock is gone; nil where none were looked for
	Parts      []inventory.Node  // of a disk
	Step       quantity.Bytes    // of alignment on its disk
	Places     []fs.Fact         // partitions and gaps of a disk, in their order
	Started    string            // what started the machine: "UEFI" or "BIOS"
	Alignment  string            // how the alignment step of its disk was worked out
	Wanted     map[string]string // options of fstab by mount point
	Settings   []fs.Value        // of its content, as they are now
	Findings   []finding.Finding
	Structures []field.Structure // every field on the device, where they were asked for
	Bytes      []byte            // of the device, where they were asked for
	BytesAt    int64
}

// InspectDepth says how deep to look.
type InspectDepth struct {
	Fields bool
	At     int64 // first of the bytes to be shown
	Length int64 // 0 for none
}

// MostBytes is how much is shown at once.
const MostBytes = 64 << 10

// ErrBytes says that a place is not on the device.
var ErrBytes = errors.New("no such place on the device")

// Inspect looks at one device.
func Inspect(ctx context.Context, r machine.Reader, word string, depth InspectDepth, c *config.Config) (*Inspection, error) {
	v, err := r.Inventory(ctx)
	if err != nil {
		return nil, err
	}
	n, err := target.Look(v, word)
	if err != nil {
		return nil, err
	}
	i := &Inspection{
		Node:     n,
		Called:   target.NameOf(v, n),
		Disk:     n,
		Started:  v.Machine.Firmware,
		Uses:     v.UsesOf(n.Name),
		Findings: verify.About(v, verify.All(v), n.Name),
	}
	if n.Parent != "" {
		i.Disk, _ = v.Node(n.Parent)
		i.Type = table.TypeWords(i.Disk.Table, n.Entry.Type)
	}
	if n.Table != nil {
		i.Places, i.Parts = tableFacts(n.Table), v.Parts(n.Name)
	}
	i.Step = c.Step(i.Disk.Geometry)
	i.Alignment, i.Wanted = alignment(c, i.Disk), map[string]string{}
	by := v.Resolver()
	table := v.Fstab()
	for _, u := range v.Units() {
		if slices.ContainsFunc(by.Resolve(u.Entry.Spec), func(o inventory.Node) bool { return o.Name == n.Name }) {
			if u.None == "" {
				i.Wanted[u.Where] = strings.Join(u.Entry.Options, ",")
			}
			l, _ := table.Line(u.Line)
			i.References = append(i.References, fmt.Sprintf("%s:%d  %s", fstab.Path, l.Number, l.Text()))
		}
	}
	if c, ok := n.Content(); ok && len(n.Contents) == 1 && c.State != fs.Damaged {
		if k, known := kind.Of(c); known && k.Values != nil {
			if i.Settings, err = valuesOf(ctx, r, n, k); err != nil {
				i.Node.Problem = cmp.Or(i.Node.Problem, fmt.Sprintf("its settings cannot be read: %v", err))
			}
		}
	}
	i.remains(ctx, r)
	return i, i.read(ctx, r, depth)
}

// remains looks for copies of a superblock where nothing is recognised, or the first one is
// damaged. Where that cannot be done it is said, beside all else that is known.
func (i *Inspection) remains(ctx context.Context, r machine.Reader) {
	n := i.Node
	if n.Silent || n.Problem != "" || n.Zeros || n.Table != nil || n.Within != "" || n.Size == 0 || n.Entry.Role == table.Extended ||
		len(n.Contents) > 0 && !i.Damaged() {
		return
	}
	part, done, err := i.open(ctx, r)
	if err != nil {
		i.Node.Problem = fmt.Sprintf("copies of a superblock cannot be looked for: %v", err)
		return
	}
	defer done()
	i.Remains = kind.Remains(part)
}

// Damaged reports whether the superblock of its content is damaged.
func (i *Inspection) Damaged() bool {
	c, ok := i.Node.Content()
	return ok && c.State == fs.Damaged
}

// CopiesAgree says how many copies of a superblock that is gone say the same.
func (i *Inspection) CopiesAgree() string {
	if len(i.Remains.Copies) == 1 {
		return fmt.Sprintf("1 of %d copies of it is there", i.Remains.Looked)
	}
	return fmt.Sprintf("%d of %d copies of it agree", len(i.Remains.Copies), i.Remains.Looked)
}

// CopiesSay is what they say was there; nothing where none were looked for.
func (i *Inspection) CopiesSay() []fs.Fact {
	if i.Remains == nil {
		return nil
	}
	c := i.Remains.Content
	var at []string
	for _, byte := range i.Remains.Copies {
		at = append(at, fmt.Sprint(byte))
	}
	return []fs.Fact{
		{Name: "copies say", Value: fmt.Sprintf("%s, %v", strings.TrimSpace(c.Kind+" "+c.Label), c.Size)},
		{Name: "its UUID", Value: c.UUID},
		{Name: "copies at", Value: "bytes " + strings.Join(at, ", ")},
	}
}

// open opens the device, as a part of its disk.
func (i *Inspection) open(ctx context.Context, r machine.Reader) (part block.Device, done func(), err error) {
	dev, err := r.Open(ctx, i.Disk.Name)
	if err != nil {
		return nil, nil, err
	}
	part, err = block.NewSlice(dev, int64(i.Node.Start), int64(i.Node.Size))
	if err != nil {
		dev.Close()
		return nil, nil, err
	}
	return part, func() { dev.Close() }, nil
}

// read fills in what is read of the device itself.
func (i *Inspection) read(ctx context.Context, r machine.Reader, depth InspectDepth) error {
	if !depth.Fields && depth.Length == 0 {
		return nil
	}
	n := i.Node
	if depth.At < 0 || depth.Length > int64(n.Size) || depth.At > int64(n.Size)-depth.Length {
		return fmt.Errorf("%s: %d bytes from byte %d: %w, which has %d", n.Name, depth.Length, depth.At, ErrBytes, n.Size)
	}
	part, done, err := i.open(ctx, r)
	if err != nil {
		return err
	}
	defer done()
	if depth.Fields {
		if i.Structures, err = kind.Fields(part); err != nil {
			return fmt.Errorf("%s: %w", n.Name, err)
		}
	}
	if depth.Length > 0 {
		i.BytesAt = depth.At
		i.Bytes, err = block.ReadSized(part, depth.At, depth.Length, MostBytes)
	}
	return err
}

// State is how a content was left; one that is mounted for writing is in use, whatever its
// superblock says would be so after a power cut.
func (i *Inspection) State(c fs.Content) string { return inventory.StateOf(c, i.Uses) }

// Differs says how the options of a mount differ from those that fstab has for
// the place; empty where it has none or they agree. Options that are no matter of
// the running mount are left out.
func (i *Inspection) Differs(u inventory.Use) string {
	want, ok := i.Wanted[u.Where]
	if !ok {
		return ""
	}
	differ := kind.Options(u.Kind).Differ(fstab.Split(want), u.Options, u.Super)
	if len(differ) == 0 {
		return ""
	}
	return "mounted " + strings.Join(differ, ", ") + "; fstab says otherwise"
}

// alignment says where partitions begin, and why.
func alignment(c *config.Config, d inventory.Node) string {
	s := c.Step(d.Geometry)
	why := fmt.Sprintf("a multiple of the physical sector of %d bytes", d.Geometry.Physical)
	if d.Geometry.OptIO > 0 && int64(s)%d.Geometry.OptIO == 0 {
		why += fmt.Sprintf(" and of the best I/O of %d bytes", d.Geometry.OptIO)
	}
	return fmt.Sprintf("partitions begin on multiples of %v (%d bytes), %s", s, s, why)
}

// tableFacts are partitions and gaps in the order of their place.
func tableFacts(t *table.Table) (out []fs.Fact) {
	type row struct {
		start       uint64
		name, words string
	}
	var rows []row
	place := func(s extent.Span) string {
		_, size, _ := t.Bytes(s)
		return fmt.Sprintf("sectors %d to %d: %d × %d bytes = %d bytes (%v, %s)", s.Start, s.End()-1, s.Count,
			t.Sector, size, size, size.SI())
	}
	for _, p := range t.Parts {
		words := place(p.Span) + "; type " + table.TypeWords(t, p.Type) + ", PARTUUID " + p.UUID
		if p.Name != "" {
			words += ", named " + p.Name
		}
		if p.Role != "" {
			words = string(p.Role) + ", " + words
		}
		if p.Attributes != 0 {
			words += ", attributes " + table.AttributeWords(t.Scheme, p.Attributes)
		}
		rows = append(rows, row{p.Span.Start, fmt.Sprintf("partition %d", p.Number), words})
	}
	for _, gap := range t.Gaps() {
		rows = append(rows, row{gap.Start, "gap", place(gap)})
	}
	slices.SortFunc(rows, func(a, b row) int { return cmp.Compare(a.start, b.start) })
	for _, r := range rows {
		out = append(out, fs.Fact{Name: r.name, Value: r.words})
	}
	return out
}
