package task

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/quantity"
	"fundus/core/table"
	"fundus/internal/machine"
)

// Format makes a file system on a partition or a bare disk.
type Format struct {
	Target string            `json:"target"`
	Kind   string            `json:"kind"`
	Label  string            `json:"label,omitempty"`
	UUID   string            `json:"uuid,omitempty"`  // an identifier, KeepID, or NewID, which "" is too
	Asked  map[string]string `json:"asked,omitempty"` // settings, as they were typed
}

// Words in place of an identifier.
const (
	NewID  = "new"
	KeepID = "keep"
)

// Verb of the request.
func (*Format) Verb() string { return "format" }

// Errors of formatting.
var (
	ErrExtended = errors.New("no place for a file system")
	ErrNoID     = errors.New("there is no identifier to keep")
)

func (r *Format) Plan(ctx context.Context, p *Planner) error {
	v, err := p.now(ctx)
	if err != nil {
		return err
	}
	n, err := Resolve(v, r.Target)
	if err != nil {
		return err
	}
	if n.Entry.Role == table.Extended {
		return fmt.Errorf("%s: %w: it is extended, and holds the chain of logical partitions; format one of those (fundus partition list %s)", n.Name, ErrExtended, n.Parent)
	}
	m, err := kind.FindMaker(r.Kind)
	if err != nil {
		return err
	}
	id, err := r.id(n, m, p.fresh())
	if err != nil {
		return err
	}
	p.title("format %s as %s", n.Name, r.Kind)
	if err := p.lose(ctx, v, n); err != nil {
		return err
	}
	wishes := p.Config.Wishes(m.Word)
	for key, word := range r.Asked {
		wishes[key] = fs.Wish{Word: word, By: fs.ByRequest}
	}
	var made fs.Made
	err = p.write(ctx, "make "+r.Kind, whole(n, true), func(dev block.Device) error {
		if err := eraseSignatures(dev, n.Contents); err != nil {
			return err
		}
		made, err = m.Make(ctx, dev, fs.Order{Label: r.Label, ID: id, Wishes: wishes, Time: p.Clock, Fresh: p.fresh})
		return err
	})
	if err != nil {
		return about(n, p.withConfigured(m, wishes, err))
	}
	p.facts(fs.Fact{Name: "UUID", Value: id.String()})
	p.facts(made.Facts...)
	p.current().Values = made.Values
	if err := p.checkMade(ctx, n, id); err != nil {
		return err
	}
	disk := n.Parent
	if disk == "" {
		disk = n.Name
	}
	return p.Stage.TellKernel(ctx, disk)
}

// id is the identifier of the new file system.
func (r *Format) id(n inventory.Node, m kind.Maker, random uuid.UUID) (fs.ID, error) {
	switch r.UUID {
	case "", NewID:
		return m.ID.Fresh(random), nil
	case KeepID:
		c, ok := n.Content()
		if !ok || c.UUID == "" {
			return fs.ID{}, fmt.Errorf("--uuid=%s: %w: %s holds %s; --uuid=%s makes one", KeepID, ErrNoID, n.Name, cmp.Or(n.Holds(), "nothing"), NewID)
		}
		id, err := m.ID.Parse(c.UUID)
		if err != nil {
			return fs.ID{}, fmt.Errorf("--uuid=%s: %w: that of %s on %s is %s, and %s has another form; --uuid=%s makes one", KeepID, ErrNoID, c.Kind, n.Name, c.UUID, m.Word, NewID)
		}
		return id, nil
	}
	id, err := m.ID.Parse(r.UUID)
	if err != nil {
		return fs.ID{}, fmt.Errorf("--uuid=%w", err)
	}
	return id, nil
}

// withConfigured adds to a refusal which values nobody has typed: they may be its reason.
func (p *Planner) withConfigured(m kind.Maker, wishes fs.Wishes, err error) error {
	var list []string
	for _, s := range m.Settings {
		if w := wishes[s.Key]; w.By == fs.ByConfiguration {
			list = append(list, fmt.Sprintf("%s=%s of %s", s.Key, w.Word, p.Config.From("format."+m.Word+"."+s.Key)))
		}
	}
	var refusal *machine.Refusal
	if len(list) == 0 || errors.As(err, &refusal) {
		return err
	}
	return fmt.Errorf("%w (in force is %s)", err, strings.Join(list, ", "))
}

// checkMade looks at the after-state with the probes: exactly the new file
// system, and nothing of the old.
func (p *Planner) checkMade(ctx context.Context, n inventory.Node, id fs.ID) error {
	after, err := p.now(ctx)
	if err != nil {
		return err
	}
	now, _ := after.Node(n.Name)
	c, ok := now.Content()
	if !ok || len(now.Contents) != 1 || c.UUID != id.String() || c.State != fs.Clean {
		return fmt.Errorf("%s: the result is not what was asked for (it would hold %q); nothing was written. This is a fault of Fundus", n.Name, now.Holds())
	}
	return nil
}

// under scans a span of a disk as if it were a partition.
func (p *Planner) under(ctx context.Context, disk inventory.Node, start, size quantity.Bytes) (inventory.Node, error) {
	dev, err := p.Stage.Open(ctx, disk.Name)
	if err != nil {
		return inventory.Node{}, err
	}
	part, err := block.NewSlice(dev, int64(start), int64(size))
	if err != nil {
		return inventory.Node{}, err
	}
	n := disk
	n.Parent, n.Form, n.Start, n.Size = disk.Name, inventory.Partition, start, size
	n.Name = "the free space of " + disk.Name
	n.Contents, err = kind.Probe(part)
	n.Table = nil
	return n, err
}

// Label writes a label, or removes it where it is empty.
type Label struct {
	Target string `json:"target"`
	Label  string `json:"label"`
}

// Verb of the request.
func (*Label) Verb() string { return "label" }

func (r *Label) Plan(ctx context.Context, p *Planner) error {
	v, err := p.now(ctx)
	if err != nil {
		return err
	}
	n, err := Resolve(v, r.Target)
	if err != nil {
		return err
	}
	c, ok := n.Content()
	if !ok {
		return fmt.Errorf("%s holds no file system that could have a label; fundus inspect %s shows what is there", n.Name, n.Name)
	}
	k, ok := kind.Of(c)
	if !ok || k.SetLabel == nil || c.Class != fs.FileSystem && c.Class != fs.Swap { // a journal of its own belongs to a file system elsewhere
		return fmt.Errorf("%s holds %s: %w: Fundus does not change its label", n.Name, c.Kind, kind.ErrCannot)
	}
	p.title("label %s %q", n.Name, r.Label)
	if r.Label == "" {
		p.title("remove the label of %s", n.Name)
	}
	if c.Label == r.Label {
		return nil
	}
	p.facts(fs.Fact{Name: "label", Value: fmt.Sprintf("%q becomes %q", c.Label, r.Label)})
	err = p.write(ctx, "write the label", whole(n, true), func(dev block.Device) error { return k.SetLabel(dev, r.Label) })
	if err != nil {
		return about(n, err)
	}
	if c.Label == "" {
		return nil
	}
	name := "LABEL=" + r.Label
	if r.Label == "" {
		name = "UUID=" + c.UUID
	}
	return p.rename(ctx, v, n, "LABEL="+c.Label, name)
}

// about names the device in an error that does not name it itself.
func about(n inventory.Node, err error) error {
	var refusal *machine.Refusal
	if errors.As(err, &refusal) {
		return err
	}
	return fmt.Errorf("%s: %w", n.Name, err)
}
