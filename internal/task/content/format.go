package content

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/google/uuid"

	"fundus/core/advice"
	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/quantity"
	"fundus/core/refs"
	"fundus/core/table"
	"fundus/core/text/fstab"
	"fundus/core/way"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/task"
)

// Format makes a file system on a partition or a bare disk.
type Format struct {
	Target string            `json:"target"`
	Kind   string            `json:"kind"`
	Label  string            `json:"label,omitempty"`
	UUID   string            `json:"uuid,omitempty"`  // an identifier, KeepID, or NewID, which "" is too
	Asked  map[string]string `json:"asked,omitempty"` // settings, as they were typed
	// References decides about lines that say an identifier which the new file system has
	// not: follow, drop, disable or keep.
	References string `json:"references,omitempty"`
	Type       string `json:"type,omitempty"`         // FitType, or "" for the partition's type as it is
	Discard    bool   `json:"discard,omitempty"`      // what the new file system has not written is discarded
	Unless     bool   `json:"unless_there,omitempty"` // nothing is done where it is there as asked
}

// Words in place of an identifier.
const (
	NewID  = "new"
	KeepID = "keep"
)

// Verb of the request.
func (*Format) Verb() string { return "format" }

// Devices implements task.About.
func (r *Format) Devices() []string { return []string{r.Target} }

// Errors of formatting.
var (
	ErrExtended = errors.New("no place for a file system")
	ErrNoID     = errors.New("there is no identifier to keep")
)

func (r *Format) Plan(ctx context.Context, p *task.Planner) error {
	v, n, err := p.Device(ctx, r.Target)
	if err != nil {
		return err
	}
	if n.Entry.Role == table.Extended {
		a := advice.For(v, n, advice.FileSystem)
		return way.To(fmt.Errorf("%s: %w: %s", n.Name, ErrExtended, a.Why), a.Next)
	}
	m, err := kind.FindMaker(r.Kind)
	if err != nil {
		return err
	}
	id, err := r.id(n, m, p.Fresh())
	if err == nil {
		err = task.CheckDecision(r.References, true)
	}
	if err != nil {
		return err
	}
	if err := errors.Join(r.checkType(n), r.checkDiscard(v, n)); err != nil {
		return err
	}
	p.Title("format %s as %s", n.Name, r.Kind)
	p.Made(n.Name)
	p.Results(draft.RoleFileSystem, n.Name)
	label, err := r.label(p, n, m)
	if err != nil {
		return machine.About(n.Name, err)
	}
	if r.Unless && r.there(n, m) {
		return nil
	}
	if err := task.Vacated(v, n); err != nil {
		return err
	}
	if err := p.Lose(ctx, v, n); err != nil {
		return err
	}
	wishes := wishes(p, m, r)
	size, err := sizeOf(n, wishes)
	if err != nil {
		return machine.About(n.Name, err)
	}
	disk, _ := v.Node(n.Disk())
	order := fs.Order{
		Start:  n.Start,
		Label:  label,
		ID:     id,
		Again:  r.UUID != "" && r.UUID != NewID,
		Flash:  disk.Form == inventory.Disk && !disk.Hardware.Rotational,
		Wishes: wishes,
		Time:   p.Clock,
		Fresh:  p.Fresh,
	}
	called, err := m.Called(size, n.Geometry, order)
	if err != nil {
		return machine.About(n.Name, withConfigured(p, m, wishes, err))
	}
	if err := r.fit(ctx, p, v, n, called, wishes["for"].Word == "efi"); err != nil {
		return err
	}
	unwritten, err := build(ctx, p, n, m, order, size)
	if err != nil {
		return machine.About(n.Name, withConfigured(p, m, wishes, err))
	}
	if err := checkMade(ctx, p, n, id); err != nil {
		return err
	}
	if err := r.leave(ctx, p, v, n, id, label); err != nil {
		return err
	}
	if err := p.Stage.TellKernel(ctx, n.Disk()); err != nil || !r.Discard {
		return err
	}
	return p.Stage.TellOnce(ctx, machine.Action{Verb: machine.Discard, Device: n.Name, Spans: unwritten})
}

// label is the label of the new file system, as its kind stores it.
func (r *Format) label(p *task.Planner, n inventory.Node, m kind.Maker) (string, error) {
	asked := r.Label
	if c, ok := n.Content(); ok && r.UUID == KeepID && asked == "" {
		asked = c.Label // what names it by its label goes on
	}
	label, err := kind.MakerOf(m).Label(asked)
	if err == nil && label != asked {
		p.Note("the label is %s: FAT has capitals alone", label)
	}
	return label, err
}

// build takes off what is there and makes the new file system, in one step. It gives what
// the new file system did not write.
func build(ctx context.Context, p *task.Planner, n inventory.Node, m kind.Maker, o fs.Order, size quantity.Bytes) (unwritten []extent.Span, err error) {
	var made fs.Made
	var noted *noting
	err = p.Write(ctx, "make "+m.Word, machine.Whole(n, machine.HoldContent), func(dev block.Device) error {
		noted = &noting{Device: dev}
		if err := task.EraseSignatures(noted, n.Contents); err != nil {
			return err
		}
		dev, err := block.NewSlice(noted, 0, int64(size))
		if err != nil {
			return err
		}
		made, err = m.Make(ctx, dev, o)
		return err
	})
	if err != nil {
		return nil, err
	}
	p.Details(fs.Fact{Name: string(m.ID), Value: o.ID.String()})
	p.Details(made.Facts...)
	p.Current().Values = made.Values
	if made.Note != "" {
		p.Note("%s", made.Note)
	}
	return noted.rest(size), nil
}

// sizeOf takes the size out of the wishes, which every kind has: how much of the device the
// new file system uses.
func sizeOf(n inventory.Node, wishes fs.Wishes) (quantity.Bytes, error) {
	w, asked := wishes["size"]
	delete(wishes, "size")
	if !asked {
		return n.Size, nil
	}
	q, err := quantity.Parse(w.Word)
	if err != nil {
		return 0, fmt.Errorf("size=%s: %w", w.Word, err)
	}
	sector := quantity.Bytes(max(n.Geometry.Logical, 1))
	size, err := q.Resolve(sector, n.Size)
	switch {
	case err != nil:
		return 0, fmt.Errorf("size=%s: %w", w.Word, err)
	case size > n.Size || size <= 0:
		return 0, fmt.Errorf("size=%s: it has %v", w.Word, n.Size)
	}
	return size / sector * sector, nil
}

// wishes are the settings that somebody wants: of the configuration, and as they were typed.
func wishes(p *task.Planner, m kind.Maker, r *Format) fs.Wishes {
	list := p.Config.Wishes(m.Word)
	for key, word := range r.Asked {
		list[key] = fs.Wish{Word: word, By: fs.ByRequest}
	}
	return list
}

// there reports whether the device holds what is asked for already: the kind, and the label
// and the identifier where these were named.
func (r *Format) there(n inventory.Node, m kind.Maker) bool {
	c, ok := n.Content()
	if !ok || len(n.Contents) != 1 || !m.Makes(c) || c.State == fs.Damaged {
		return false
	}
	named := r.UUID != "" && r.UUID != NewID && r.UUID != KeepID
	label, err := kind.MakerOf(m).Label(r.Label) // as the kind stores it
	return err == nil && (label == "" || label == c.Label) && (!named || strings.EqualFold(r.UUID, c.UUID))
}

// leave decides about the lines that say an identifier of what was there and which the new
// file system has not.
func (r *Format) leave(ctx context.Context, p *task.Planner, v *inventory.Inventory, n inventory.Node, id fs.ID, label string) error {
	now := func(spec string) string {
		if strings.HasPrefix(spec, "LABEL=") && label != "" {
			return "LABEL=" + label
		}
		return "UUID=" + id.String()
	}
	var lines []refs.Reference
	for _, ref := range refs.Of(v, n.Name) {
		spec := refs.Normal(ref.Spec)
		if tag, _, _ := strings.Cut(spec, "="); (tag == "UUID" || tag == "LABEL") && spec != "UUID="+id.String() && spec != "LABEL="+label {
			lines = append(lines, ref)
		}
	}
	if err := p.Leave(ctx, v, task.Leaving{
		Node:     n,
		Lines:    lines,
		Decision: r.References,
		Now:      now,
	}); err != nil || r.References != task.Follow {
		return err
	}
	return retype(ctx, p, n)
}

// retype lets the lines of fstab that name the device say what it holds now: a line that says
// another kind is refused by the kernel.
func retype(ctx context.Context, p *task.Planner, n inventory.Node) error {
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	now, _ := v.Node(n.Name)
	c, ok := now.Content()
	f, changed := p.FstabNow(), false
	for _, l := range f.Entries() {
		found := v.Resolve(l.Entry.Spec)
		if !ok || len(found) != 1 || found[0].Name != n.Name || c.MountsAs(l.Entry.Type) || (c.Class == fs.Swap) != l.Entry.IsSwap() {
			continue
		}
		if err := f.Set(l.Number, fstab.TypeField, c.MountType()); err != nil {
			return err
		}
		if (l.Entry.Pass > 0) != (c.Pass > 0) { // of some kinds there is nothing to be checked at boot
			pass := c.Pass
			if l.Entry.Dir == "/" {
				pass = min(pass, 1)
			}
			if err := f.Set(l.Number, fstab.PassField, fmt.Sprint(pass)); err != nil {
				return err
			}
		}
		changed = true
	}
	if !changed {
		return nil
	}
	if amended, err := p.Stage.Amend(fstab.Path, f.Bytes()); amended || err != nil {
		return err
	}
	return p.SetFstab(ctx, "say "+c.MountType()+" in "+fstab.Path, f)
}

// id is the identifier of the new file system.
func (r *Format) id(n inventory.Node, m kind.Maker, random uuid.UUID) (fs.ID, error) {
	switch r.UUID {
	case "", NewID:
		return m.ID.Fresh(random), nil
	case KeepID:
		c, ok := n.Content()
		if !ok || c.UUID == "" {
			return fs.ID{}, fmt.Errorf("--uuid=%s: %w: %s holds %s; --uuid=%s makes one", KeepID, ErrNoID, n.Name,
				cmp.Or(advice.Holds(n), "nothing"), NewID)
		}
		id, err := m.ID.Parse(c.UUID)
		if err != nil {
			return fs.ID{}, fmt.Errorf("--uuid=%s: %w: that of %s on %s is %s, and %s has another form; --uuid=%s makes one",
				KeepID, ErrNoID, c.Kind, n.Name, c.UUID, m.Word, NewID)
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
func withConfigured(p *task.Planner, m kind.Maker, wishes fs.Wishes, err error) error {
	var list []string
	for _, s := range m.Settings() {
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
func checkMade(ctx context.Context, p *task.Planner, n inventory.Node, id fs.ID) error {
	after, err := p.Now(ctx)
	if err != nil {
		return err
	}
	now, _ := after.Node(n.Name)
	c, ok := now.Content()
	if !ok || len(now.Contents) != 1 || c.UUID != id.String() || c.State != fs.Clean {
		return fmt.Errorf("%s: the result is not what was asked for (it would hold %q); nothing was written. This is a fault of Fundus",
			n.Name, advice.Holds(now))
	}
	return nil
}
