package task

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/table"
	"fundus/internal/machine"
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
	In     int           `json:"in,omitempty"`  // in which gap, from 1
	Type   string        `json:"type,omitempty"`
	Name   string        `json:"name,omitempty"`
	Number int           `json:"number,omitempty"` // 0: the lowest that is free
	UUID   string        `json:"uuid,omitempty"`   // PARTUUID
	Boot   bool          `json:"boot,omitempty"`
}

// Verb of the request.
func (*PartitionAdd) Verb() string { return "partition add" }

// Errors of partitions.
var (
	ErrContent = errors.New("the space holds old content")
	ErrGap     = errors.New("no such gap")
	ErrTakenID = errors.New("the identifier is in use")
)

func (r *PartitionAdd) Plan(ctx context.Context, p *Planner) error {
	v, err := p.now(ctx)
	if err != nil {
		return err
	}
	n, err := p.disk(v, r.Disk)
	if err != nil {
		return err
	}
	t, err := p.editor(ctx, n)
	if err != nil {
		return err
	}
	var added []string
	for _, want := range r.Parts {
		part, err := p.addOne(ctx, n, t, want, r.Content)
		if err != nil {
			return err
		}
		added = append(added, fmt.Sprint(part.Number))
		m := t.Model()
		_, size, _ := m.Bytes(part.Span)
		which := ""
		if len(r.Parts) > 1 {
			which = fmt.Sprintf("%d: ", part.Number)
		}
		p.facts(fs.Fact{Name: "sectors", Value: fmt.Sprintf("%s%d to %d: %d × %d bytes = %v (%s)", which, part.Span.Start, part.Span.End()-1, part.Span.Count, m.Sector, size, size.SI())},
			fs.Fact{Name: "PARTUUID", Value: which + part.UUID})
	}
	p.title("%s on %s", numbered(added), n.Name)
	return p.change(ctx, n, t)
}

// numbered names partitions by their numbers.
func numbered(list []string) string {
	if len(list) == 1 {
		return "partition " + list[0]
	}
	return "partitions " + strings.Join(list[:len(list)-1], ", ") + " and " + list[len(list)-1]
}

// addOne puts one partition into the table and gives it as it is there.
func (p *Planner) addOne(ctx context.Context, n inventory.Node, t table.Editor, want NewPart, content string) (table.Partition, error) {
	m := t.Model()
	part := table.Partition{Number: want.Number, Name: want.Name}
	var err error
	if part.Span, err = p.place(n, m, want); err != nil {
		return part, about(n, err)
	}
	word := want.Type
	if word == "" {
		word = "linux"
	}
	if part.Type, err = table.ParseType(m.Scheme, word); err != nil {
		return part, err
	}
	if part.UUID, err = p.partUUID(ctx, m, want.UUID); err != nil {
		return part, err
	}
	if want.Boot {
		part.Attributes = table.Boot(m.Scheme)
	}
	start, size, ok := m.Bytes(part.Span)
	if err := t.Add(part); err != nil || !ok {
		return part, about(n, err)
	}
	for _, now := range t.Model().Parts {
		if now.Span == part.Span && (now.Number == part.Number || part.Number == 0) {
			part = now
		}
	}
	if part.Role == table.Extended && content == "keep" {
		return part, fmt.Errorf("%s: --content=keep: %w: the chain of logical partitions begins in the first sector of an extended one", n.Name, table.ErrValue)
	}
	return part, p.decideContent(ctx, n, content, start, size)
}

// partUUID is the one asked for, or a fresh one. An MBR makes its own.
func (p *Planner) partUUID(ctx context.Context, m *table.Table, asked string) (string, error) {
	if asked == "" {
		return p.fresh().String(), nil
	}
	if m.Scheme == table.MBR {
		return "", fmt.Errorf("--uuid=%s: %w: in an MBR a PARTUUID is the disk signature with the number", asked, table.ErrValue)
	}
	id, err := uuid.Parse(asked)
	if err != nil {
		return "", fmt.Errorf("--uuid=%s: %w", asked, err)
	}
	v, err := p.now(ctx)
	if err != nil {
		return "", err
	}
	if found := v.Resolve("PARTUUID=" + id.String()); len(found) > 0 {
		return "", fmt.Errorf("--uuid=%s: %w: %s has it", id, ErrTakenID, found[0].Name)
	}
	return id.String(), nil
}

// place works out where the partition goes, and says every rounding.
func (p *Planner) place(n inventory.Node, m *table.Table, want NewPart) (extent.Span, error) {
	s := step(p.Config, n)
	if _, full := m.FreeNumber(); full != nil && len(m.Rooms(s)) == 0 {
		if m.Scheme == table.MBR {
			return extent.Span{}, fmt.Errorf("%w; logical partitions go inside an extended one (--type extended), and a GPT has room for 128: fundus table convert %s --scheme gpt", full, n.Name)
		}
		return extent.Span{}, full
	}
	room, fixed, err := p.room(m, want, s)
	if err != nil {
		return extent.Span{}, err
	}
	whole, _ := quantity.Count(room.Count).Times(m.Sector)
	size, err := p.wanted(want.Size, m.Sector, whole, fixed)
	if err != nil {
		return extent.Span{}, err
	}
	span := extent.Span{Start: room.Start}
	rounded, ok := size.Up(s)
	if !ok {
		return span, &table.RoomError{Wanted: size, Largest: whole, Err: table.ErrNoRoom}
	}
	switch {
	case !fixed:
		if span, err = m.Place(size, s); err != nil {
			return span, err
		}
	case size == 0:
		span.Count = room.Count
	case uint64(rounded/m.Sector) > room.Count:
		return span, &table.RoomError{Wanted: size, Largest: whole, Err: table.ErrNoRoom}
	default:
		span.Count = uint64(rounded / m.Sector)
	}
	if got, _ := quantity.Count(span.Count).Times(m.Sector); size > 0 && got != size {
		p.note("%d bytes rounded up to %v (%d bytes), a multiple of the alignment step of %v", size, got, got, s)
	}
	return span, nil
}

// room is where the partition may lie: in the gap that is named, behind the place
// that is named, or in the largest one, and then it is not fixed.
func (p *Planner) room(m *table.Table, want NewPart, s quantity.Bytes) (room extent.Span, fixed bool, err error) {
	rooms := m.Rooms(s)
	switch {
	case !want.At.IsZero() && want.In != 0:
		return room, true, fmt.Errorf("--at and --in are two answers to one question: %w", ErrGap)
	case want.In != 0:
		if want.In < 1 || want.In > len(rooms) {
			return room, true, fmt.Errorf("--in=%d: %w: gaps that take a partition: %d", want.In, ErrGap, len(rooms))
		}
		return rooms[want.In-1], true, nil
	case want.At.IsZero():
		return m.Largest(s), false, nil
	}
	if want.At.Form == quantity.Percent || want.At.Form == quantity.Max {
		return room, true, fmt.Errorf("--at=%s: %w: a place is counted from the beginning of the disk, such as 20GiB", want.At, ErrGap)
	}
	at, err := want.At.Resolve(m.Sector, 0)
	if err != nil {
		return room, true, fmt.Errorf("--at: %w", err)
	}
	aligned, ok := at.Up(s)
	if want.At.Form == quantity.InSector { // whoever counts sectors means them
		aligned, ok = at, true
	}
	if aligned != at {
		p.note("byte %d rounded up to %d, a multiple of the alignment step of %v", at, aligned, s)
	}
	first := uint64(aligned / m.Sector)
	for _, gap := range m.Gaps() {
		inside := m.Room(gap, m.Sector) // every sector of it
		if ok && inside.Contains(extent.Span{Start: first, Count: 1}) && m.Open(gap) {
			rest := extent.Span{Start: first, Count: inside.End() - first}
			if want.At.Form != quantity.InSector {
				rest.Count = rest.Count / uint64(s/m.Sector) * uint64(s/m.Sector)
			}
			return rest, true, nil
		}
	}
	for _, o := range m.Parts {
		if o.Role != table.Extended && o.Span.Contains(extent.Span{Start: first, Count: 1}) {
			return room, true, fmt.Errorf("--at=%s: sector %d: %w: partition %d has %v", want.At, first, extent.ErrOverlap, o.Number, o.Span)
		}
	}
	return room, true, fmt.Errorf("--at=%s: sector %d: %w that takes a partition there; fundus partition list shows the gaps", want.At, first, ErrGap)
}

// wanted is the size in bytes, 0 for all that there is.
func (p *Planner) wanted(s quantity.Size, sector, whole quantity.Bytes, fixed bool) (quantity.Bytes, error) {
	if s.IsZero() || s.Form == quantity.Max {
		return 0, nil
	}
	size, err := s.Resolve(sector, whole)
	if err != nil {
		return 0, err
	}
	if size <= 0 {
		return 0, fmt.Errorf("%s: a partition of no bytes", s)
	}
	if s.Bare {
		p.note("%s is read as binary: %v = %s", s, size, size.SI())
	}
	if s.Form == quantity.Percent {
		of := "the largest free gap"
		if fixed {
			of = "the gap"
		}
		p.note("%s of %s, %v", s, of, whole)
	}
	return size, nil
}

// decideContent looks under the new partition: arrays and file systems start
// by themselves once the kernel knows it, so that old content must be kept or
// erased on purpose, and before.
func (p *Planner) decideContent(ctx context.Context, n inventory.Node, decision string, start, size quantity.Bytes) error {
	if decision != "" && decision != "keep" && decision != "erase" {
		return fmt.Errorf("--content=%s: use keep or erase", decision)
	}
	under, err := p.under(ctx, n, start, size)
	if err != nil || len(under.Contents) == 0 {
		return err
	}
	var kinds []string
	for _, c := range under.Contents {
		kinds = append(kinds, describe(c))
	}
	what := strings.Join(kinds, " and ")
	switch decision {
	case "":
		return fmt.Errorf("%s: %w: %s; say --content=keep to have it back, or --content=erase", n.Name, ErrContent, what)
	case "keep":
		p.note("the partition begins with %s and keeps it", what)
		return nil
	}
	loss, err := p.lossOf(ctx, under)
	if err != nil {
		return err
	}
	if loss != nil {
		p.Draft.Losses = append(p.Draft.Losses, *loss)
	}
	target := machine.Target{Disk: n.Name, Start: start, Size: size, Hold: machine.HoldContent}
	return p.write(ctx, "erase old signatures", target, func(dev block.Device) error { return eraseSignatures(dev, under.Contents) })
}
