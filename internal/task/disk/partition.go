package disk

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/scan"
	"fundus/core/table"
	"fundus/core/table/place"
	"fundus/core/way"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/task"
)

// PartitionAdd puts new partitions into the gaps of a disk.
type PartitionAdd struct {
	Disk    string    `json:"disk"`
	Parts   []NewPart `json:"parts"`             // at least one
	Content string    `json:"content,omitempty"` // keep or erase old content
}

// NewPart is one partition that is asked for.
type NewPart struct {
	Size   quantity.Size `json:"size,omitzero"` // none: the largest gap, or the one that is named
	At     quantity.Size `json:"at,omitzero"`   // where it begins; none: in the first gap that takes it
	To     quantity.Size `json:"to,omitzero"`   // what it ends before, in place of a size
	In     int           `json:"in,omitempty"`  // in which gap, from 1
	Type   string        `json:"type,omitempty"`
	Name   string        `json:"name,omitempty"`
	Number int           `json:"number,omitempty"` // 0: the lowest that is free
	UUID   string        `json:"uuid,omitempty"`   // PARTUUID
	Boot   bool          `json:"boot,omitempty"`
	Unless bool          `json:"unless_there,omitempty"` // nothing is done where the number has it already, as asked
}

// Verb of the request.
func (*PartitionAdd) Verb() string { return "partition add" }

// Devices implements task.About.
func (r *PartitionAdd) Devices() []string { return []string{r.Disk} }

// Errors of partitions.
var (
	ErrContent = errors.New("the space holds old content")
	ErrTakenID = errors.New("the identifier is in use")
)

func (r *PartitionAdd) Plan(ctx context.Context, p *task.Planner) error {
	_, n, err := p.Disk(ctx, r.Disk)
	if err != nil {
		return err
	}
	t, err := p.Editor(ctx, n)
	if err != nil {
		return err
	}
	var added []string
	for _, want := range r.Parts {
		if there, err := want.there(n, t.Model(), p.Config.Step(n.Geometry)); err != nil {
			return err
		} else if there {
			name, _ := scan.Name(n, want.Number)
			p.Made(name)
			p.Results(draft.RolePartition, name)
			continue
		}
		part, err := addOne(ctx, p, n, t, want, r.Content)
		if err != nil {
			return err
		}
		added = append(added, fmt.Sprint(part.Number))
		name, _ := scan.Name(n, part.Number)
		p.Made(name)
		p.Results(draft.RolePartition, name)
		m := t.Model()
		_, size, _ := m.Bytes(part.Span)
		which := ""
		if len(r.Parts) > 1 {
			which = fmt.Sprintf("%d: ", part.Number)
		}
		p.Details(fs.Fact{
			Name: "sectors",
			Value: fmt.Sprintf("%s%d to %d: %d × %d bytes = %v (%s)", which, part.Span.Start, part.Span.End()-1,
				part.Span.Count, m.Sector, size, size.SI()),
		},
			fs.Fact{Name: "PARTUUID", Value: which + part.UUID})
	}
	p.Title("add partitions on %s", n.Name)
	if len(added) == 0 {
		return nil
	}
	p.Title("add %s on %s", numbered(added), n.Name)
	return p.Change(ctx, n, t)
}

// there reports whether the partition of the number is what is asked for already, as far as
// was said; another one of that number is refused.
func (w NewPart) there(disk inventory.Node, m *table.Table, step quantity.Bytes) (bool, error) {
	have, ok := m.Part(w.Number)
	if !w.Unless || w.Number == 0 || !ok {
		return false, nil
	}
	differs := func(what, is, asked string) (bool, error) {
		return false, fmt.Errorf("%s: partition %d: %w, and its %s is %s, not %s", disk.Name, w.Number, table.ErrTaken, what, is, asked)
	}
	if w.Size.Form == quantity.Absolute || w.Size.Form == quantity.InSector {
		size, err := w.Size.Resolve(m.Sector, 0)
		if err != nil {
			return false, err
		}
		_, is, _ := m.Bytes(have.Span)
		if rounded, ok := size.Up(step); is != size && (!ok || is != rounded) {
			return differs("size", is.String(), size.String())
		}
	}
	if w.Type != "" {
		typ, err := table.ParseType(m.Scheme, w.Type)
		if err != nil {
			return false, err
		}
		if typ != have.Type {
			return differs("type", table.TypeWords(m, have.Type), table.TypeWords(m, typ))
		}
	}
	if w.Name != "" && w.Name != have.Name {
		return differs("name", fmt.Sprintf("%q", have.Name), fmt.Sprintf("%q", w.Name))
	}
	return true, nil
}

// numbered names partitions by their numbers, which ascend; runs of three or more become
// one word.
func numbered(list []string) string {
	if len(list) == 1 {
		return "partition " + list[0]
	}
	var words []string
	for i := 0; i < len(list); {
		k := i
		for k+1 < len(list) && follows(list[k], list[k+1]) {
			k++
		}
		if k-i >= 2 {
			words, i = append(words, list[i]+" to "+list[k]), k+1
			continue
		}
		words, i = append(words, list[i]), i+1
	}
	if len(words) == 1 {
		return "partitions " + words[0]
	}
	return "partitions " + strings.Join(words[:len(words)-1], ", ") + " and " + words[len(words)-1]
}

func follows(a, b string) bool {
	n, errA := strconv.Atoi(a)
	m, errB := strconv.Atoi(b)
	return errA == nil && errB == nil && m == n+1
}

// addOne puts one partition into the table and gives it as it is there.
func addOne(ctx context.Context, p *task.Planner, n inventory.Node, t table.Editor, want NewPart, content string) (table.Partition, error) {
	m := t.Model()
	part := table.Partition{Number: want.Number, Name: want.Name}
	var err error
	if part.Span, err = spanOf(p, n, m, want); err != nil {
		return part, machine.About(n.Name, err)
	}
	word := want.Type
	if word == "" {
		word = "linux"
	}
	if part.Type, err = table.ParseType(m.Scheme, word); err != nil {
		return part, err
	}
	if part.UUID, err = partUUID(ctx, p, m, want.UUID); err != nil {
		return part, err
	}
	if want.Boot {
		part.Attributes = table.Boot(m.Scheme)
	}
	start, size, ok := m.Bytes(part.Span)
	if err := t.Add(part); err != nil {
		return part, machine.About(n.Name, err)
	}
	if !ok {
		return part, fmt.Errorf("%s: sectors %v: %w: no disk has that many bytes", n.Name, part.Span, table.ErrPlace)
	}
	for _, now := range t.Model().Parts {
		if now.Span == part.Span && (now.Number == part.Number || part.Number == 0) {
			part = now
		}
	}
	if part.Role == table.Extended && content == "keep" {
		return part, fmt.Errorf("%s: --content=keep: %w: the chain of logical partitions begins in the first sector of an extended one",
			n.Name, table.ErrValue)
	}
	return part, decideContent(ctx, p, n, content, start, size)
}

// partUUID is the one asked for, or a fresh one. An MBR makes its own.
func partUUID(ctx context.Context, p *task.Planner, m *table.Table, asked string) (string, error) {
	if asked == "" {
		return p.Fresh().String(), nil
	}
	if m.Scheme == table.MBR {
		return "", fmt.Errorf("--uuid=%s: %w: in an MBR a PARTUUID is the disk signature with the number", asked, table.ErrValue)
	}
	id, err := uuid.Parse(asked)
	if err != nil {
		return "", fmt.Errorf("--uuid=%s: %w: a GUID is 32 hexadecimal digits, as in 0fc63daf-8483-4772-8e79-3d69d8477de4",
			asked, table.ErrValue)
	}
	v, err := p.Now(ctx)
	if err != nil {
		return "", err
	}
	if found := v.Resolve("PARTUUID=" + id.String()); len(found) > 0 {
		return "", fmt.Errorf("--uuid=%s: %w: %s has it", id, ErrTakenID, found[0].Name)
	}
	return id.String(), nil
}

// spanOf works out where the partition goes, and says every rounding.
func spanOf(p *task.Planner, n inventory.Node, m *table.Table, want NewPart) (extent.Span, error) {
	s := p.Config.Step(n.Geometry)
	if _, full := m.FreeNumber(); full != nil && len(m.Rooms(s)) == 0 {
		if m.Scheme == table.MBR {
			return extent.Span{}, way.To(fmt.Errorf("%w; logical partitions go inside an extended one (--type extended), and a GPT has space for 128",
				full), way.TableConvert(n.Name, "--scheme", "gpt"))
		}
		return extent.Span{}, full
	}
	placed, err := place.Wanted{Size: want.Size, At: want.At, To: want.To, In: want.In}.Find(m, s)
	for _, note := range placed.Notes {
		p.Note("%s", note)
	}
	return placed.Span, err
}

// decideContent looks under the new partition: arrays and file systems start
// by themselves once the kernel knows it, so that old content must be kept or
// erased on purpose, and before.
func decideContent(ctx context.Context, p *task.Planner, n inventory.Node, decision string, start, size quantity.Bytes) error {
	if decision != "" && decision != "keep" && decision != "erase" {
		return fmt.Errorf("--content=%s: use keep or erase", decision)
	}
	under, err := p.Under(ctx, n, start, size)
	if err != nil || len(under.Contents) == 0 {
		return err
	}
	var kinds []string
	for _, c := range under.Contents {
		kinds = append(kinds, c.Words())
	}
	what := strings.Join(kinds, " and ")
	switch decision {
	case "":
		return fmt.Errorf("%s: %w: %s; say --content=keep to have it back, or --content=erase", n.Name, ErrContent, what)
	case "keep":
		p.Note("the partition begins with %s and keeps it", what)
		return nil
	}
	loss, err := p.LossOf(ctx, under)
	if err != nil {
		return err
	}
	if loss != nil {
		p.Draft.Losses = append(p.Draft.Losses, *loss)
	}
	target := machine.Target{Device: n.Name, Start: start, Size: size, Hold: machine.HoldContent}
	return p.Write(ctx, "erase old signatures", target, func(dev block.Device) error { return task.EraseSignatures(dev, under.Contents) })
}
