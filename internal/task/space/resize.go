package space

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/memory"
	"fundus/core/quantity"
	"fundus/core/stack"
	"fundus/core/table"
	"fundus/core/table/place"
	"fundus/core/target"
	"fundus/internal/machine"
	"fundus/internal/task"
)

// Resize gives a partition another size, and what is in it, as far as that can have one while
// nobody uses it.
type Resize struct {
	Target string        `json:"target"`
	Size   quantity.Size `json:"size,omitzero"` // or max
	By     string        `json:"by,omitempty"`  // "+4GiB", "-10%"
}

// Verb of the request.
func (*Resize) Verb() string { return "resize" }

// ErrNeeded is a size that would cut into what is there.
var ErrNeeded = errors.New("smaller than what it holds")

func (r *Resize) Plan(ctx context.Context, p *task.Planner) error {
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	n, err := named(v, r.Target)
	if err != nil {
		return err
	}
	if n.Parent == "" {
		return r.bare(ctx, p, v, n)
	}
	disk, _ := v.Node(n.Parent)
	t, err := p.Editor(ctx, disk)
	if err != nil {
		return err
	}
	m := t.Model()
	part, _ := m.Part(n.Number)
	behind := place.Behind(m, part)
	most, _ := quantity.Count(part.Span.Count + behind.Count).Times(m.Sector)
	size, note, err := place.Resized{Size: r.Size, By: r.By}.Bytes(n.Start, n.Size, most, m.Sector, p.Config.Step(n.Geometry))
	if err != nil {
		return machine.About(n.Name, err)
	}
	if note != "" {
		p.Note("%s", note)
	}
	p.Title("resize partition %d of %s to %v", n.Number, disk.Name, size)
	if size > most {
		return fmt.Errorf("%s: %w: it has %v (%d bytes), and behind it are %v free: at most %v (%d bytes)%s", n.Name, table.ErrNoRoom, n.Size, n.Size, most-n.Size, most, most, barrier(v, n, most))
	}
	layers, err := layersOf(ctx, p, v, n)
	if err != nil {
		return err
	}
	if not := layers[len(layers)-1].Shrink.Not; len(layers) == 1 || not != "" {
		if err := enough(ctx, p, n, size, cmp.Or(not, cannotShrink)); err != nil {
			return err
		}
	}
	changes, notes, err := stack.Plan(layers, 0, size)
	if err != nil {
		return err
	}
	for _, note := range notes {
		p.Note("%s", note)
	}
	off, on, err := swapped(v, n, changes)
	if err == nil {
		err = p.Stage.Tell(ctx, off...)
	}
	if err != nil {
		return err
	}
	said(p, layers, changes)
	for _, c := range changes {
		switch {
		case c.Layer == 0:
			err = entry(ctx, p, n, disk, t, part, c.To/m.Sector)
		default:
			if len(changes) == 1 {
				p.Title("resize the %s on %s to %v", layers[1].What, n.Name, c.To)
			}
			err = content(ctx, p, v, n, max(c.From, c.To, size), c)
		}
		if err != nil {
			return err
		}
	}
	return p.Stage.Tell(ctx, on...)
}

// named is what the word means: a partition, a mount point, or a disk that holds something
// without a table.
func named(v *inventory.Inventory, word string) (inventory.Node, error) {
	if use, ok := v.MountedAt(path.Clean(word)); ok {
		word = use.Node
	}
	n, err := target.Resolve(v, word)
	if err != nil || n.Parent == "" && (n.Table != nil || len(n.Contents) == 0) {
		return target.Partition(v, word)
	}
	return n, nil
}

// bare is Resize for what lies on a disk, or in an image, without a table: nothing is around
// it that could change.
func (r *Resize) bare(ctx context.Context, p *task.Planner, v *inventory.Inventory, n inventory.Node) error {
	layers, err := layersOf(ctx, p, v, n)
	if err != nil {
		return err
	}
	fixed := stack.Way{Not: "the device itself has that size"}
	layers[0].What, layers[0].Grow, layers[0].Shrink = "the device", fixed, fixed
	if len(layers) == 1 {
		return fmt.Errorf("%s: this release gives a %s on a bare disk no other size", n.Name, cmp.Or(n.Holds(), "nothing"))
	}
	size, _, err := place.Resized{Size: r.Size, By: r.By}.Bytes(0, layers[1].Size, n.Size, quantity.Bytes(n.Geometry.Logical), 1)
	if err != nil {
		return machine.About(n.Name, err)
	}
	if size > n.Size {
		return &stack.FitError{Layer: layers[1], Want: size, Why: fmt.Sprintf("the device has %v (%d bytes)", n.Size, n.Size)}
	}
	p.Title("resize the %s on %s to %v", layers[1].What, n.Name, size)
	changes, notes, err := stack.Plan(layers[1:], 0, size)
	if err != nil {
		return err
	}
	for _, note := range notes {
		p.Note("%s", note)
	}
	said(p, layers[1:], changes)
	for _, c := range changes {
		if err := content(ctx, p, v, n, n.Size, c); err != nil {
			return err
		}
	}
	return nil
}

// swapped are the actions that give an area of swap up before it is resized, and turn it on
// again as it was: its priority is the kernel's word, what is told to the disk its line's.
func swapped(v *inventory.Inventory, n inventory.Node, changes []stack.Change) (off, on []machine.Action, err error) {
	i := slices.IndexFunc(v.Areas, func(a inventory.Area) bool { return a.Node == n.Name })
	if i < 0 || !slices.ContainsFunc(changes, func(c stack.Change) bool { return c.Layer > 0 }) {
		return nil, nil, nil
	}
	area := v.Areas[i]
	if sum := memory.GiveUp(v.Memory, v.Areas, area.Path); !sum.Fits() {
		return nil, nil, &machine.Refusal{Rule: machine.RuleMemory, Thing: n.Name, Text: sum.String() + ": the kernel would kill programs to make room", Next: "fundus swap list"}
	}
	var options []string
	if area.Priority >= 0 {
		options = append(options, fmt.Sprintf("pri=%d", area.Priority))
	}
	by := v.Resolver()
	for _, u := range v.Units() {
		if u.Entry.IsSwap() && slices.ContainsFunc(by.Resolve(u.Entry.Spec), func(o inventory.Node) bool { return o.Name == n.Name }) {
			options = append(options, slices.DeleteFunc(slices.Clone(u.Entry.Options), func(o string) bool { return !strings.HasPrefix(o, "discard") })...)
		}
	}
	a := machine.Action{Verb: machine.SwapOff, Node: n.Name, Options: strings.Join(options, ",")}
	back := a
	back.Verb = machine.SwapOn
	return []machine.Action{a}, []machine.Action{back}, nil
}

// said shows what becomes of each layer.
func said(p *task.Planner, layers []stack.Layer, changes []stack.Change) {
	for _, c := range changes {
		l := layers[c.Layer]
		how := ""
		if l.Grow.How == stack.Live && !strings.HasPrefix(l.What, "partition") {
			how = ", by the kernel, while it is mounted"
		}
		p.Facts(fs.Fact{Name: l.What, Value: fmt.Sprintf("%v becomes %v (%d bytes)%s", c.From, c.To, c.To, how)})
	}
}

// layersOf are the partition, and what is in it where that has a size of its own.
func layersOf(ctx context.Context, p *task.Planner, v *inventory.Inventory, n inventory.Node) ([]stack.Layer, error) {
	live := stack.Way{How: stack.Live}
	layers := []stack.Layer{{Name: n.Name, What: fmt.Sprintf("partition %d", n.Number), Size: n.Size, Grow: live, Shrink: live}}
	c, ok := n.Content()
	if !ok || len(n.Contents) != 1 || c.Size == 0 || n.Entry.Role == table.Extended {
		return layers, nil
	}
	l := stack.Layer{Name: n.Name, What: strings.TrimSpace(c.Kind + " " + c.Label), Size: c.Size, Grow: stack.Way{How: stack.Offline}, Shrink: stack.Way{How: stack.Offline}}
	k, _ := kind.Of(c)
	reach := func(dev block.Device, to quantity.Bytes) (quantity.Bytes, error) { return k.Resizing.Reach(dev, to) }
	mounts := machine.Mounts(v, n.Name)
	uses := v.UsesOf(n.Name)
	switch {
	case len(mounts) > 0 && k.Growing != nil && !machine.Grows(v, k):
		l.Grow, l.Shrink = stack.Way{Not: "a bench does not make a mounted one larger"}, stack.Way{Not: cannotShrink}
	case len(mounts) > 0 && k.Growing != nil && slices.Contains(k.Growing.Types, mounts[0].Kind) && !mounts[0].ReadOnly:
		l.Grow, l.Shrink, reach = stack.Way{How: stack.Live}, stack.Way{Not: cannotShrink}, k.Growing.Reach
	case len(uses) == 0 && k.Resizing == nil:
		l.Grow, l.Shrink = stack.Way{Not: "this release makes it larger while it is mounted alone"}, stack.Way{Not: cannotShrink}
		if k.Growing == nil {
			l.Grow.Not = "this release knows no way"
		}
	case len(uses) > 0 && uses[0].How == inventory.SwapOn && k.Resizing != nil: // given up first, and turned on again
	case len(uses) > 0:
		l.Grow = stack.Way{Not: fmt.Sprintf("it is %s; not in use, it grows along", inUse(uses[0]))}
		l.Shrink = stack.Way{Not: cannotShrink}
	case !k.Resizing.Shrinks:
		l.Shrink = stack.Way{Not: cannotShrink}
	}
	dev, err := p.Stage.Open(ctx, n.Disk())
	if err != nil {
		return nil, err
	}
	l.Rule = func(want quantity.Bytes) (quantity.Bytes, error) {
		part, err := block.NewSlice(dev, int64(n.Start), int64(n.Size))
		if err != nil {
			return 0, err
		}
		return reach(part, want)
	}
	return append(layers, l), nil
}

// cannotShrink is why most do not.
const cannotShrink = "this release cannot make it smaller"

func inUse(u inventory.Use) string {
	switch {
	case u.How == inventory.Mounted && u.ReadOnly:
		return "mounted at " + u.Where + " for reading alone"
	case u.How == inventory.Mounted:
		return "mounted at " + u.Where
	}
	return "in use"
}

// entry gives the partition another size in the table.
func entry(ctx context.Context, p *task.Planner, n, disk inventory.Node, t table.Editor, part table.Partition, count quantity.Bytes) error {
	now := part
	now.Span.Count = uint64(count)
	if err := t.Set(n.Number, now); err != nil {
		return machine.About(disk.Name, err)
	}
	sector := t.Model().Sector
	size := quantity.Bytes(now.Span.Count) * sector
	p.Details(fs.Fact{Name: "sectors", Value: fmt.Sprintf("%v becomes %v: %d × %d bytes = %v (%s)", part.Span, now.Span, now.Span.Count, sector, size, size.SI())})
	return p.Change(ctx, disk, t)
}

// content gives what is in the partition another size; room is what the partition has while
// that is done.
func content(ctx context.Context, p *task.Planner, v *inventory.Inventory, n inventory.Node, room quantity.Bytes, change stack.Change) error {
	c, _ := n.Content()
	k, _ := kind.Of(c)
	to := change.To
	if change.How == stack.Live {
		use := machine.Mounts(v, n.Name)[0]
		return p.Stage.TellOnce(ctx, machine.Action{Verb: machine.Grow, Node: n.Name, Where: use.Where, Kind: use.Kind, Size: to, Was: change.From})
	}
	target := machine.Target{Disk: n.Disk(), Start: n.Start, Size: room, Hold: machine.HoldContent}
	return p.Write(ctx, fmt.Sprintf("give the %s on %s %v", c.Kind, n.Name, to), target, func(dev block.Device) error {
		got, err := k.Resizing.Resize(ctx, dev, to, nil)
		if err != nil {
			return machine.About(n.Name, err)
		}
		if got != to {
			err = fmt.Errorf("%s: %d bytes were foretold, and it has %d", n.Name, to, got)
		}
		return err
	})
}

// barrier says which partition begins where the room ends.
func barrier(v *inventory.Inventory, n inventory.Node, most quantity.Bytes) string {
	for _, o := range v.Parts(n.Parent) {
		if o.Start == n.Start+most && o.Name != n.Name {
			return fmt.Sprintf("; there begins %s (%s)", o.Name, cmp.Or(o.Holds(), "empty"))
		}
	}
	return ""
}

// enough refuses a size that cuts off something, or that nobody knows to be enough.
func enough(ctx context.Context, p *task.Planner, n inventory.Node, size quantity.Bytes, not string) error {
	if size >= n.Size || n.Entry.Role == table.Extended { // what lies in that is looked at by the table
		return nil
	}
	if n.Problem != "" {
		return fmt.Errorf("%s: %w: it cannot be read (%s), so nobody knows how much it needs", n.Name, ErrNeeded, n.Problem)
	}
	for _, c := range n.Contents {
		switch {
		case c.Size == 0:
			return fmt.Errorf("%s: %w: the %s in it does not say how large it is", n.Name, ErrNeeded, c.Kind)
		case c.Size > size:
			return fmt.Errorf("%s: %w: the %s in it has %v (%d bytes), %v (%d bytes) would be left, and %s", n.Name, ErrNeeded, c.Kind, c.Size, c.Size, size, size, not)
		}
	}
	if len(n.Contents) > 0 {
		return nil
	}
	loss, err := p.LossOf(ctx, n)
	if loss != nil {
		return fmt.Errorf("%s: %w: it holds %s, and nobody knows how much that needs", n.Name, ErrNeeded, loss.What)
	}
	return err
}
