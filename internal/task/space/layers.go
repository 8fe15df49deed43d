package space

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"fundus/core/advice"
	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/quantity"
	"fundus/core/refused"
	"fundus/core/stack"
	"fundus/core/table"
	"fundus/internal/machine"
	"fundus/internal/task"
)

// cannotShrink is why most do not.
const cannotShrink = "this release cannot make it smaller"

// storey gives the layers of what a node holds, from the outermost to the innermost.
type storey func(ctx context.Context, p *task.Planner, v *inventory.Inventory, n inventory.Node, c fs.Content) ([]stack.Layer, error)

// storeys has a row for each class of content that has a size of its own, or whose devices have.
// What is of no class here keeps its length, and so does the partition around it.
func storeys() map[fs.Class]storey {
	return map[fs.Class]storey{
		fs.FileSystem: sized,
		fs.Swap:       sized,
		fs.Member:     contained,
		fs.Encrypted:  contained,
	}
}

// layersOf are the partition, or the device, and what is in it where that has a size.
func layersOf(ctx context.Context, p *task.Planner, v *inventory.Inventory, n inventory.Node) ([]stack.Layer, error) {
	live := stack.Way{How: stack.Live}
	room := stack.Layer{Name: n.Name, What: fmt.Sprintf("partition %d", n.Number), Size: n.Size, Grow: live, Shrink: live}
	if n.Parent == "" {
		room.What, room.Fixed = "the device", true
	}
	c, ok := n.Content()
	switch {
	case len(n.Contents) > 1:
		return nil, refused.As(refused.Ambiguous, fmt.Errorf("%s: it carries several signatures (%s), and which of them counts has to be settled before it gets another size",
			n.Name, advice.Signatures(n)))
	case !ok || n.Entry.Role == table.Extended:
		return []stack.Layer{room}, nil
	}
	within, known := storeys()[c.Class]
	if !known {
		return []stack.Layer{room}, nil
	}
	layers, err := within(ctx, p, v, n, c)
	return append([]stack.Layer{room}, layers...), err
}

// contained is what further devices are built in.
func contained(ctx context.Context, p *task.Planner, v *inventory.Inventory, n inventory.Node, c fs.Content) ([]stack.Layer, error) {
	if c.Size > 0 {
		return sized(ctx, p, v, n, c)
	}
	return []stack.Layer{container(v, n, c)}, nil
}

// sized is what has a size of its own, by its kind's rule; none where it does not record it.
func sized(ctx context.Context, p *task.Planner, v *inventory.Inventory, n inventory.Node, c fs.Content) ([]stack.Layer, error) {
	if c.Size == 0 {
		return nil, nil
	}
	l := stack.Layer{Name: n.Name, What: strings.TrimSpace(c.Kind + " " + c.Label), Size: c.Size}
	reach := ways(v, n, c, &l)
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
	return []stack.Layer{l}, nil
}

// ways are how the content of a device grows and shrinks as it is used now, and the rule of
// its sizes then.
func ways(v *inventory.Inventory, n inventory.Node, c fs.Content, l *stack.Layer) func(block.Device, quantity.Bytes) (quantity.Bytes, error) {
	k, _ := kind.Of(c)
	never := stack.Way{Not: cmp.Or(k.NeverLess, cannotShrink)}
	reach := func(dev block.Device, to quantity.Bytes) (quantity.Bytes, error) { return k.Resizing.Reach(dev, to) }
	l.Grow, l.Shrink = stack.Way{How: stack.Offline}, stack.Way{How: stack.Offline}
	mounts := machine.Mounts(v, n.Name)
	uses := v.UsesOf(n.Name)
	switch {
	case len(mounts) > 0 && k.Growing != nil && !machine.Grows(v, k):
		l.Grow, l.Shrink = stack.Way{Not: "a bench does not make a mounted one larger"}, never
	case len(mounts) > 0 && k.Growing != nil && slices.Contains(k.Growing.Types, mounts[0].Kind) && !mounts[0].ReadOnly:
		l.Grow, l.Shrink, reach = stack.Way{How: stack.Live}, never, k.Growing.Reach
	case len(uses) == 0 && k.Resizing == nil:
		l.Grow, l.Shrink = stack.Way{Not: "this release makes it larger while it is mounted alone"}, never
		if k.Growing == nil {
			l.Grow.Not = "this release knows no way"
		}
	case len(uses) > 0 && uses[0].How == inventory.SwapOn && k.Resizing != nil: // given up first, and turned on again
	case len(uses) > 0 && k.Resizing == nil && k.Growing == nil:
		l.Grow, l.Shrink = stack.Way{Not: "this release knows no way"}, never
	case len(uses) > 0 && k.Resizing == nil:
		l.Grow, l.Shrink = stack.Way{Not: fmt.Sprintf("it is %s; mounted for writing, it grows along", inUse(uses[0]))}, never
	case len(uses) > 0:
		l.Grow = stack.Way{Not: fmt.Sprintf("it is %s; not in use, it grows along", inUse(uses[0]))}
		l.Shrink = never
	case !k.Resizing.Shrinks:
		l.Shrink = never
	}
	return reach
}

// container is something that further devices are built in. Around it there may be more room;
// how large it is inside nobody changes.
func container(v *inventory.Inventory, n inventory.Node, c fs.Content) stack.Layer {
	not := "its contents are not resized yet"
	for _, o := range v.Nodes {
		if slices.Contains(o.BuiltOn, n.Name) {
			not += fmt.Sprintf(", and %s keeps its length of %v until it is closed and opened again", o.Name, o.Size)
		}
	}
	way := stack.Way{Not: not}
	return stack.Layer{Name: n.Name, What: strings.TrimSpace(c.Kind + " " + c.Label), Size: n.Size, Grow: way, Shrink: way}
}

func inUse(u inventory.Use) string {
	switch {
	case u.How == inventory.Mounted && u.ReadOnly:
		return "mounted at " + u.Where + " read-only"
	case u.How == inventory.Mounted:
		return "mounted at " + u.Where
	}
	return "in use"
}

// swapped are the actions that give an area of swap up before it is resized, and turn it on
// again as it was: its priority is the kernel's word, what is told to the disk its line's.
func swapped(v *inventory.Inventory, n inventory.Node, changes []stack.Change) (off, on []machine.Action, err error) {
	if !slices.ContainsFunc(changes, func(c stack.Change) bool { return c.Layer > 0 }) {
		return nil, nil, nil
	}
	a, is, err := machine.GiveUp(v, n)
	if !is || err != nil {
		return nil, nil, err
	}
	back := a
	back.Verb = machine.SwapOn
	return []machine.Action{a}, []machine.Action{back}, nil
}
