package content

import (
	"context"
	"fmt"

	"fundus/core/advice"
	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/refused"
	"fundus/core/target"
	"fundus/core/way"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/task"
)

// Label writes a label, or removes it where it is empty.
type Label struct {
	Target string `json:"target"`
	Label  string `json:"label"`
}

// Verb of the request.
func (*Label) Verb() string { return "label" }

// Devices implements task.About.
func (r *Label) Devices() []string { return []string{r.Target} }

// holding is what a request about a device's content is about.
type holding struct {
	v *inventory.Inventory
	n inventory.Node
	c fs.Content
	k kind.Kind
}

// held finds the device, and what it holds; one that holds nothing has none of what is named.
func held(ctx context.Context, p *task.Planner, word, what string) (h holding, err error) {
	if h.v, err = p.Now(ctx); err != nil {
		return h, err
	}
	if h.n, err = target.Resolve(h.v, word); err != nil {
		return h, err
	}
	var ok bool
	if h.c, ok = h.n.Content(); !ok {
		return h, way.To(refused.As(refused.NothingThere, fmt.Errorf("%s holds nothing that could have %s (%s)",
			h.n.Name, what, advice.Words(h.n))), way.Inspect(h.n.Name))
	}
	h.k, _ = kind.Of(h.c)
	return h, nil
}

func (r *Label) Plan(ctx context.Context, p *task.Planner) error {
	h, err := held(ctx, p, r.Target, "a label")
	if err != nil {
		return err
	}
	v, n, c, k := h.v, h.n, h.c, h.k
	p.Results(draft.RoleFileSystem, n.Name)
	if k.SetLabel == nil || c.Class != fs.FileSystem && c.Class != fs.Swap { // a journal of its own belongs to a file system elsewhere
		return fmt.Errorf("%s holds %s: %w: Fundus does not change its label", n.Name, c.Kind, kind.ErrCannot)
	}
	if c.State == fs.Asleep && !v.Imaged(n) { // its own area is free to be erased, and for nothing else
		return refused.As(refused.Sleeping, fmt.Errorf("%s: a system sleeps in it, and goes on with what it knew of it: start that system, and label it then",
			n.Name))
	}
	label, err := k.Label(r.Label)
	if err != nil {
		return machine.About(n.Name, err)
	}
	p.Title("label %s %q", n.Name, label)
	if label == "" {
		p.Title("remove the label of %s", n.Name)
	}
	if c.Label == label {
		return nil
	}
	p.Facts(fs.Fact{Name: "label", Value: fmt.Sprintf("%q becomes %q", c.Label, label)})
	if err := write(ctx, p, v, n, k, c.Label, label); err != nil {
		return machine.About(n.Name, err)
	}
	if c.Label == "" {
		return nil
	}
	name := "LABEL=" + label
	if label == "" {
		name = "UUID=" + c.UUID
	}
	return p.Rename(ctx, v, n, "LABEL="+c.Label, name)
}

// write has the label written: by the kernel where it is mounted and the kernel has a call
// for that, since what it has of the superblock in its memory would come back over ours;
// else on the device itself.
func write(ctx context.Context, p *task.Planner, v *inventory.Inventory, n inventory.Node, k kind.Kind, former, label string) error {
	if k.Relabels && len(machine.Mounts(v, n.Name)) > 0 {
		return p.Stage.Tell(ctx, machine.Action{
			Verb:        machine.Relabel,
			Device:      n.Name,
			ContentArgs: machine.ContentArgs{Label: label, FormerLabel: former},
		})
	}
	return p.Write(ctx, "write the label", machine.Whole(n, machine.HoldContent), func(dev block.Device) error { return k.SetLabel(dev, label) })
}
