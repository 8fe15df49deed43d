package content

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"fundus/core/advice"
	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/refs"
	"fundus/core/refused"
	"fundus/core/verify"
	"fundus/core/way"
	"fundus/internal/machine"
	"fundus/internal/task"
)

// Erase takes signatures off a device, so that nothing takes it for what it held.
type Erase struct {
	Target     string   `json:"target"`
	Only       []string `json:"only,omitempty"` // KIND or KIND@BYTE; none: all
	References string   `json:"references,omitempty"`
}

// Verb of the request.
func (*Erase) Verb() string { return "erase" }

// Devices implements task.About.
func (r *Erase) Devices() []string { return []string{r.Target} }

// Errors of erasing.
var (
	ErrNotThere = errors.New("no such signature")
	ErrShared   = errors.New("it shares bytes with another signature")
)

func (r *Erase) Plan(ctx context.Context, p *task.Planner) error {
	v, n, err := p.Device(ctx, r.Target)
	if err == nil {
		err = task.CheckDecision(r.References, false)
	}
	if err != nil {
		return err
	}
	chosen, stay, err := r.choose(n)
	if err != nil {
		return err
	}
	p.Title("remove the signatures of %s", n.Name)
	p.Stands(n.Name)
	if len(chosen) == 0 {
		return r.nothing(p, v, n)
	}
	believed, _ := n.Content()
	p.Excuse(verify.ContentUnknown.New(n.Name, "").Key()) // it is to be taken for nothing
	gone := slices.ContainsFunc(chosen, func(c fs.Content) bool { return same(c, believed) })
	if gone {
		loss, err := p.LossOf(ctx, n)
		if err != nil {
			return err
		}
		if loss != nil {
			p.Draft.Losses = append(p.Draft.Losses, *loss)
		}
	}
	if err := r.say(ctx, p, n, chosen, stay, believed); err != nil {
		return err
	}
	further := 0
	err = p.Write(ctx, "erase signatures", machine.Whole(n, machine.HoldContent), func(dev block.Device) (err error) {
		if len(r.Only) > 0 {
			return eraseBytes(dev, chosen)
		}
		further, err = task.EraseEach(dev, chosen, eraseBytes)
		return err
	})
	if err != nil {
		return machine.About(n.Name, err)
	}
	if further > 0 {
		p.Note("labels at other places, which would be believed then, go too: %d", further)
	}
	if err := checkErased(ctx, p, n, stay); err != nil || !gone {
		return err
	}
	var lines []refs.Reference
	for _, ref := range refs.Of(v, n.Name) {
		if tag, _, _ := strings.Cut(refs.Normal(ref.Spec), "="); tag == "UUID" || tag == "LABEL" {
			lines = append(lines, ref)
		}
	}
	return p.Leave(ctx, v, task.Leaving{Node: n, Lines: lines, Decision: r.References})
}

// choose tells what is to go from what stays. A table is no signature to be erased: it goes
// with a new one.
func (r *Erase) choose(n inventory.Node) (chosen, stay []fs.Content, err error) {
	used := map[string]bool{}
	for _, c := range n.Contents {
		is := len(r.Only) == 0 && c.Class != fs.Table
		for _, word := range r.Only {
			if meant(word, c) {
				is, used[word] = true, true
			}
		}
		if is && c.Class == fs.Table {
			return nil, nil, way.To(refused.As(refused.KindCannot, fmt.Errorf("%s: a %s is not erased by itself, for what it named would be lost from view",
				n.Name, c.Kind)), way.Help("table", "new"))
		}
		if is && c.Class == fs.Fence {
			return nil, nil, way.To(fmt.Errorf("%s is fenced by a deed that was cut short", n.Name), way.Recover(c.UUID))
		}
		if is {
			chosen = append(chosen, c)
		} else {
			stay = append(stay, c)
		}
	}
	for _, word := range r.Only {
		if !used[word] {
			return nil, nil, way.To(fmt.Errorf("%s: %w: %s; it has %s", n.Name, ErrNotThere, word, named(n.Contents)), way.Inspect(n.Name))
		}
	}
	return chosen, stay, nil
}

// nothing says what a device is on which there is nothing to be erased: nothing to do where it is
// taken for nothing, and an error where that cannot be told or what was meant lies in its table.
func (r *Erase) nothing(p *task.Planner, v *inventory.Inventory, n inventory.Node) error {
	switch parts := v.Parts(n.Name); {
	case n.Problem != "":
		return way.To(refused.As(refused.Unreadable, fmt.Errorf("%s: it cannot be read, so its contents are unknown: %s",
			n.Name, n.Problem)), way.Inspect(n.Name))
	case n.Table != nil && len(parts) > 0:
		return way.To(refused.As(refused.NothingThere, fmt.Errorf("%s has a partition table (%s) and no other signature; erase the contents of its partitions one by one, by their names",
			n.Name, strings.ToUpper(string(n.Table.Scheme)))), way.Survey(n.Name))
	case n.Table != nil:
		return way.To(fmt.Errorf("%s has a partition table (%s) without partitions, which is not erased by itself",
			n.Name, strings.ToUpper(string(n.Table.Scheme))), way.Help("table"))
	}
	p.Note("nothing takes %s for anything", n.Name)
	return nil
}

// meant reports whether a word names the content: KIND, or KIND@BYTE for where it begins.
func meant(word string, c fs.Content) bool {
	name, place, placed := strings.Cut(word, "@")
	if !strings.EqualFold(name, c.Kind) && !strings.EqualFold(name, c.Family) || len(c.Signatures) == 0 {
		return false
	}
	return !placed || place == strconv.FormatUint(c.Signatures[0].Start, 10)
}

func named(list []fs.Content) string {
	var words []string
	for _, c := range list {
		if len(c.Signatures) > 0 {
			words = append(words, fmt.Sprintf("%s@%d", c.Kind, c.Signatures[0].Start))
		}
	}
	if len(words) == 0 {
		return "none"
	}
	return strings.Join(words, ", ")
}

func same(a, b fs.Content) bool {
	return a.Kind == b.Kind && len(a.Signatures) > 0 && len(b.Signatures) > 0 && a.Signatures[0] == b.Signatures[0]
}

// say has a line for each signature: what it is, who believes it, where it lies; and what
// stays readable behind it.
func (r *Erase) say(ctx context.Context, p *task.Planner, n inventory.Node, chosen, stay []fs.Content, believed fs.Content) error {
	for _, c := range chosen {
		words := "nothing uses it"
		if same(c, believed) {
			words = "found by Linux and udev"
		}
		if c.Label != "" {
			words += ", label " + c.Label
		}
		copies, err := copiesOf(ctx, p, n, c)
		if err != nil {
			return err
		}
		switch {
		case copies == 1:
			words += "; a copy inside stays, which nothing uses"
		case copies > 1:
			words += fmt.Sprintf("; copies inside stay, %d at least, which nothing uses", copies)
		}
		p.Facts(fs.Fact{Name: c.Kind, Value: fmt.Sprintf("%s; at byte %d", words, c.Signatures[0].Start)})
	}
	after := n
	after.Contents = stay
	if c, ok := after.Content(); ok {
		p.Note("%s is recognised as %s then", n.Name, c.Kind)
	} else if len(stay) > 0 {
		p.Note("%s stays", named(stay))
	}
	return nil
}

// copiesOf counts the copies of a superblock, of kinds that have some.
func copiesOf(ctx context.Context, p *task.Planner, n inventory.Node, c fs.Content) (int, error) {
	k, ok := kind.Of(c)
	if !ok || k.Copies == nil {
		return 0, nil
	}
	dev, err := p.Stage.Open(ctx, n.Disk())
	if err != nil {
		return 0, err
	}
	part, err := block.NewSlice(dev, int64(n.Start), int64(n.Size))
	if err != nil {
		return 0, err
	}
	same, _, _ := k.Copies(part)
	return same, nil
}

// eraseBytes zeroes the bytes of each signature, and no others: what stays may lie in the
// same sector.
func eraseBytes(dev block.Device, chosen []fs.Content) error {
	for _, c := range chosen {
		for _, s := range c.Signatures {
			if err := block.WriteBytes(dev, make([]byte, s.Count), int64(s.Start)); err != nil {
				return err
			}
		}
	}
	return dev.Sync()
}

// checkErased looks at what is left: just what was to stay.
func checkErased(ctx context.Context, p *task.Planner, n inventory.Node, stay []fs.Content) error {
	after, err := p.Now(ctx)
	if err != nil {
		return err
	}
	now, _ := after.Node(n.Name)
	for _, c := range stay {
		if !slices.ContainsFunc(now.Contents, func(o fs.Content) bool { return same(c, o) }) {
			return fmt.Errorf("%s: %w: %s would go too; erase all, or none", n.Name, ErrShared, c.Kind)
		}
	}
	if len(now.Contents) > len(stay) {
		return fmt.Errorf("%s: under what was erased is %s, which would be recognised; erase all", n.Name, advice.Holds(now))
	}
	return nil
}
