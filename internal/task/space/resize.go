package space

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
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
	"fundus/core/table/place"
	"fundus/core/target"
	"fundus/core/way"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/task"
)

// Resize gives what is named another size: a partition, with what is in it as far as that can
// go along; or what is in one, named by its mount point or its identifier, with the partition.
type Resize struct {
	Target string        `json:"target"`
	Size   quantity.Size `json:"size,omitzero"` // or max, or min
	By     string        `json:"by,omitempty"`  // "+4GiB", "-10%"
	// Unasked says that nobody asked the disk for its size, which a draft alone does not.
	Unasked bool `json:"-"`
}

// Verb of the request.
func (*Resize) Verb() string { return "resize" }

// Devices implements task.About.
func (r *Resize) Devices() []string { return []string{r.Target} }

// ErrNeeded is a size that would cut into what is there.
var ErrNeeded = errors.New("smaller than what it holds")

// chain is what is resized: all that lies one in the other, from the outside in.
type chain struct {
	v      *inventory.Inventory
	node   inventory.Node // the partition, or the disk that has none
	layers []stack.Layer  // the node's own room, and what is in it
	at     int            // the layer that is named
	most   quantity.Bytes // to be had of the node's room
	// The table, where there is one.
	disk   inventory.Node
	editor table.Editor
	part   table.Partition
}

func (r *Resize) Plan(ctx context.Context, p *task.Planner) error {
	c, err := r.chain(ctx, p)
	if err != nil {
		return err
	}
	size, err := r.size(ctx, p, c)
	if err != nil {
		return err
	}
	changes, notes, err := stack.Plan(c.layers, c.at, size)
	if err != nil {
		return c.refused(err)
	}
	p.Results(draft.RolePartition, c.node.Name)
	p.Results(draft.RoleFileSystem, c.node.Name)
	p.Draft.Layers = append(p.Draft.Layers, c.told(changes, notes)...)
	if r.Size.Form == quantity.Max {
		if err := c.allRoom(p, changes, notes); err != nil {
			return err
		}
	}
	for _, note := range notes {
		p.Note("%s", note)
	}
	off, on, err := swapped(c.v, c.node, changes)
	if err == nil {
		err = p.Stage.Tell(ctx, off...)
	}
	if err != nil {
		return err
	}
	if len(off) > 0 {
		p.Note("%s is turned off as swap first, and on again afterwards", c.node.Name)
	}
	c.said(p, changes)
	if err := c.readable(ctx, p, changes); err != nil {
		return err
	}
	for _, change := range changes {
		if change.Layer == 0 {
			err = c.entry(ctx, p, change.To)
		} else {
			err = c.content(ctx, p, changes, change)
		}
		if err != nil {
			return err
		}
	}
	if err := c.stays(ctx, p); err != nil {
		return err
	}
	return p.Stage.Tell(ctx, on...)
}

// chain finds what the word means, and what lies around and in it.
func (r *Resize) chain(ctx context.Context, p *task.Planner) (*chain, error) {
	v, err := p.Now(ctx)
	if err != nil {
		return nil, err
	}
	n, inside, err := Named(v, r.Target)
	if err != nil {
		return nil, err
	}
	c := &chain{v: v, node: n, most: n.Size}
	if n.Parent != "" {
		c.disk, _ = v.Node(n.Parent)
		if c.editor, err = p.Editor(ctx, c.disk); err != nil {
			return nil, err
		}
		m := c.editor.Model()
		c.part, _ = m.Part(n.Number)
		c.most, _ = quantity.Count(c.part.Span.Count + place.Behind(m, c.part).Count).Times(m.Sector)
	}
	if c.layers, err = layersOf(ctx, p, v, n); err != nil {
		return nil, err
	}
	c.layers[0].Max = c.most
	if c.disk.Name != "" {
		c.layers[0].Step = p.Config.Step(n.Geometry)
	}
	switch {
	case n.Parent == "" && len(c.layers) == 1:
		return nil, fmt.Errorf("%s: this release gives a %s on a bare disk no other size", n.Name, cmp.Or(advice.Holds(n), "nothing"))
	case len(c.layers) > 1 && (inside || n.Parent == "") && r.Size.Form != quantity.Max:
		c.at = 1
	}
	return c, nil
}

// allRoom refuses to give a place all the room where what is in it would keep its size: that was
// meant. Where there is no more room it says who stands there.
func (c *chain) allRoom(p *task.Planner, changes []stack.Change, notes []string) error {
	inner := c.layers[len(c.layers)-1]
	room, grows := c.node.Size, false
	for _, change := range changes {
		if grows = grows || change.Layer > 0; change.Layer == 0 {
			room = change.To
		}
	}
	content, _ := c.node.Content()
	if len(c.layers) > 1 && content.Size > 0 && !grows && len(notes) > 0 && inner.Size < room-room/100 {
		err := refused.As(refused.KindCannot, fmt.Errorf("%s: %v would be there, and %s", c.node.Name, room, notes[len(notes)-1]))
		if c.node.Parent == "" {
			return err
		}
		return way.To(err, way.Resize(c.node.Name, fmt.Sprintf("%dB", room)))
	}
	if len(changes) == 0 && c.node.Parent != "" {
		if who := barrier(c.v, c.node, c.most); who != "" {
			p.Note("it has all the space there is%s", who)
		}
	}
	return nil
}

// Named is what the word means: a partition, or a disk that holds something without a table;
// and whether it means what is in that: a mount point does, and what a file system is known by.
func Named(v *inventory.Inventory, word string) (n inventory.Node, inside bool, err error) {
	tag, _, tagged := strings.Cut(word, "=")
	dir := path.Dir(word)
	switch {
	case tagged:
		inside = strings.EqualFold(tag, "UUID") || strings.EqualFold(tag, "LABEL")
	case strings.HasPrefix(word, "/dev/"):
		inside = dir == "/dev/disk/by-uuid" || dir == "/dev/disk/by-label"
	default:
		inside = strings.HasPrefix(word, "/")
	}
	if use, ok := v.MountedAt(path.Clean(word)); ok {
		word = use.Node
	}
	n, err = target.Resolve(v, word)
	if err != nil || n.Parent == "" && (n.Table != nil || len(n.Contents) == 0) {
		n, err = target.Partition(v, word)
	}
	return n, inside && n.Path != word, err
}

// size is what the layer that is named is to have.
func (r *Resize) size(ctx context.Context, p *task.Planner, c *chain) (size quantity.Bytes, err error) {
	n, l := c.node, c.layers[c.at]
	asked := place.Resized{Size: r.Size, By: r.By}
	sector := quantity.Bytes(n.Geometry.Logical)
	var note string
	switch {
	case r.Size.Form == quantity.Min:
		if size, err = stack.Least(c.layers, c.at); errors.Is(err, stack.ErrOwnWord) && c.at == 0 && len(c.layers) == 1 {
			err = fmt.Errorf("%w: it holds %s", err, cmp.Or(advice.Holds(n), "nothing that is known"))
		}
	case c.at > 0:
		size, _, err = asked.Bytes(0, l.Size, c.most, sector, 1)
	case n.Parent == "":
		size = c.most // max
	default:
		size, note, err = asked.Bytes(n.Start, n.Size, c.most, sector, l.Step)
	}
	if err != nil {
		return 0, machine.About(n.Name, err)
	}
	if note != "" {
		p.Note("%s", note)
	}
	if d, _ := c.v.Node(n.Disk()); r.Unasked && size <= l.Size && d.Form == inventory.Disk &&
		(r.Size.Form == quantity.Max || r.Size.Form == quantity.Percent) {
		p.Note("%s was not asked whether it has become larger by now: fundus rescan %s asks it", d.Name, d.Name)
	}
	c.titled(p, size)
	if c.at == 0 && size > c.most {
		return 0, c.noRoom(size)
	}
	if not := c.layers[len(c.layers)-1].Shrink.Not; c.at == 0 && (len(c.layers) == 1 || not != "") {
		err = enough(ctx, p, n, size, cmp.Or(not, cannotShrink))
	}
	return size, err
}

func (c *chain) titled(p *task.Planner, size quantity.Bytes) {
	if c.at == 0 && c.disk.Name != "" {
		p.Title("resize partition %d of %s to %v", c.node.Number, c.disk.Name, size)
		return
	}
	p.Title("resize the %s on %s to %v", c.layers[len(c.layers)-1].What, c.node.Name, size)
}

// noRoom says how much there is, and what stands behind it.
func (c *chain) noRoom(size quantity.Bytes) error {
	n := c.node
	behind := "nothing is free"
	if c.most > n.Size {
		behind = fmt.Sprintf("%v are free: at most %v (%d bytes)", c.most-n.Size, c.most, c.most)
	}
	return fmt.Errorf("%s: %w for %v (%d bytes): it has %v (%d bytes), and after it %s%s", n.Name, table.ErrNoRoom,
		size, size, n.Size, n.Size, behind, barrier(c.v, n, c.most))
}

// refused puts a partition that would be larger than its room in those words.
func (c *chain) refused(err error) error {
	var fit *stack.FitError
	if errors.As(err, &fit) && c.disk.Name != "" && fit.Layer.What == c.layers[0].What && fit.Want > c.most {
		return c.noRoom(fit.Want)
	}
	return err
}

// stays looks whether what was in it is found there still: some record themselves at the end
// of what they lie on, and are not found once that is elsewhere.
func (c *chain) stays(ctx context.Context, p *task.Planner) error {
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	now, _ := v.Node(c.node.Name)
	for _, was := range c.node.Contents {
		found := slices.ContainsFunc(now.Contents, func(o fs.Content) bool { return o.Kind == was.Kind && o.UUID == was.UUID })
		if !found {
			return refused.As(refused.KindCannot, fmt.Errorf("%s: the %s in it would not be found any more: it records itself at the end of its device, and that would be elsewhere",
				c.node.Name, was.Kind))
		}
	}
	return nil
}

// readable looks whether the last sector that it gets is there: a disk, or what plays one, may
// say more than it has, and nothing may come to lie on that.
func (c *chain) readable(ctx context.Context, p *task.Planner, changes []stack.Change) error {
	var most quantity.Bytes
	for _, change := range changes {
		if change.To > change.From {
			most = max(most, change.To)
		}
	}
	if most == 0 {
		return nil
	}
	dev, err := p.Stage.Open(ctx, c.node.Disk())
	if err != nil {
		return err
	}
	sector := quantity.Bytes(c.node.Geometry.Logical)
	last := (c.node.Start + most - 1) / sector
	if _, err := block.ReadSized(dev, int64(last*sector), int64(sector), int64(sector)); err != nil {
		return refused.As(refused.Unreadable, fmt.Errorf("%s: sector %d, the last that it would get, cannot be read: %w; nothing is made larger over that",
			c.node.Name, last, err))
	}
	return nil
}

// said shows what becomes of each layer, from the outside in.
func (c *chain) said(p *task.Planner, changes []stack.Change) {
	if c.disk.Table != nil && len(changes) > 0 {
		m := c.editor.Model()
		if was, now := c.disk.Table.Usable.End(), m.Usable.End(); now > was {
			had := c.disk.Size - quantity.Bytes(now-was)*m.Sector
			p.Facts(fs.Fact{Name: "disk " + c.disk.Name, Value: fmt.Sprintf("%s: it has grown", became(had, c.disk.Size))})
		}
	}
	for i, l := range c.layers {
		at := slices.IndexFunc(changes, func(ch stack.Change) bool { return ch.Layer == i })
		if at < 0 {
			continue
		}
		from, to := changes[at].From, changes[at].To
		value := became(from, to)
		switch {
		case i == 0 && from.String() != to.String(): // its bytes are a detail
			value = fmt.Sprintf("%v becomes %v; start, number and identifiers stay", from, to)
		case i == 0:
		case changes[at].How == stack.Live:
			value += ", by the kernel, while it is mounted"
		}
		p.Facts(fs.Fact{Name: l.What, Value: value})
	}
}

// told are the layers as data, the outermost first, those that keep their size among them.
func (c *chain) told(changes []stack.Change, notes []string) (out []draft.Layer) {
	if c.disk.Table != nil && c.editor != nil {
		m := c.editor.Model()
		if was, now := c.disk.Table.Usable.End(), m.Usable.End(); now > was {
			had := c.disk.Size - quantity.Bytes(now-was)*m.Sector
			out = append(out, draft.Layer{Name: "disk", Device: c.disk.Name, From: had, To: c.disk.Size, How: "it has grown"})
		}
	}
	content, _ := c.node.Content()
	for i, l := range c.layers {
		told := draft.Layer{Name: "content", Device: c.node.Name, Kind: content.Kind, From: l.Size, To: l.Size}
		switch {
		case i == 0 && c.disk.Name != "":
			told.Name, told.Kind = "partition", ""
		case i == 0:
			told.Name, told.Kind = "device", ""
		}
		for _, ch := range changes {
			if ch.Layer == i {
				told.To = ch.To
				if ch.How == stack.Live {
					told.How = "by the kernel, while it is mounted"
				}
			}
		}
		for _, n := range notes {
			if told.From == told.To && strings.HasPrefix(n, l.What+" keeps its size") {
				told.Stays = n
			}
		}
		out = append(out, told)
	}
	return out
}

// became is a size and the next one, with its bytes.
func became(from, to quantity.Bytes) string {
	if from.String() == to.String() {
		return fmt.Sprintf("%v (%d bytes) becomes %v (%d bytes)", from, from, to, to)
	}
	return fmt.Sprintf("%v becomes %v (%d bytes)", from, to, to)
}

// entry gives the partition another size in the table.
func (c *chain) entry(ctx context.Context, p *task.Planner, to quantity.Bytes) error {
	if by := to - c.node.Size; by > 0 {
		behind, err := p.Under(ctx, c.disk, c.node.Start+c.node.Size, by)
		if err != nil {
			return err
		}
		if len(behind.Contents) > 0 {
			p.Warn("where it grows there is %s, which no partition holds: it is overwritten bit by bit",
				behind.Contents[0].Words())
		}
	}
	now, sector := c.part, c.editor.Model().Sector
	now.Span.Count = uint64(to / sector)
	if err := c.editor.Set(c.node.Number, now); err != nil {
		return machine.About(c.disk.Name, err)
	}
	size := quantity.Bytes(now.Span.Count) * sector
	p.Details(fs.Fact{
		Name:  "sectors",
		Value: fmt.Sprintf("%v becomes %v: %d × %d bytes = %v (%s)", c.part.Span, now.Span, now.Span.Count, sector, size, size.SI()),
	})
	return p.Change(ctx, c.disk, c.editor)
}

// content gives what is in it another size, while there is as much room as before or behind.
func (c *chain) content(ctx context.Context, p *task.Planner, changes []stack.Change, change stack.Change) error {
	n, to := c.node, change.To
	content, _ := n.Content()
	k, _ := kind.Of(content)
	if change.How == stack.Live {
		use := machine.Mounts(c.v, n.Name)[0]
		return p.Stage.TellOnce(ctx, machine.Action{
			Verb:        machine.Grow,
			Device:      n.Name,
			UseArgs:     machine.UseArgs{Where: use.Where, Kind: use.Kind},
			ContentArgs: machine.ContentArgs{Length: to, FormerLength: change.From},
		})
	}
	room := n.Size
	for _, o := range changes {
		if o.Layer == 0 {
			room = max(o.From, o.To)
		}
	}
	if len(changes) == 1 {
		p.Title("resize the %s on %s to %v", c.layers[1].What, n.Name, to)
	}
	target := machine.Target{Device: n.Disk(), Start: n.Start, Size: room, Hold: machine.HoldContent}
	return p.Write(ctx, fmt.Sprintf("give the %s on %s %v", content.Kind, n.Name, to), target, func(dev block.Device) error {
		got, err := k.Resizing.Resize(ctx, dev, to, nil)
		if err != nil {
			return machine.About(n.Name, err)
		}
		if got != to {
			err = fmt.Errorf("%s: expected %d bytes, got %d", n.Name, to, got)
		}
		return err
	})
}

// barrier says which partition begins where the room ends.
func barrier(v *inventory.Inventory, n inventory.Node, most quantity.Bytes) string {
	for _, o := range v.Parts(n.Parent) {
		if o.Start == n.Start+most && o.Name != n.Name {
			return fmt.Sprintf("; there begins %s (%s)", o.Name, cmp.Or(advice.Holds(o), "empty"))
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
		return fmt.Errorf("%s: %w: it cannot be read (%s), so how much it needs is unknown", n.Name, ErrNeeded, n.Problem)
	}
	for _, c := range n.Contents {
		switch {
		case c.Size == 0:
			return fmt.Errorf("%s: %w: the %s in it does not say how large it is", n.Name, ErrNeeded, c.Kind)
		case c.Size > size:
			return fmt.Errorf("%s: %w: the %s in it has %v (%d bytes), %v (%d bytes) would be left, and %s", n.Name,
				ErrNeeded, c.Kind, c.Size, c.Size, size, size, not)
		}
	}
	if len(n.Contents) > 0 {
		return nil
	}
	loss, err := p.LossOf(ctx, n)
	if loss != nil {
		return fmt.Errorf("%s: %w: it holds %s, and how much that needs is unknown", n.Name, ErrNeeded, loss.What)
	}
	return err
}
