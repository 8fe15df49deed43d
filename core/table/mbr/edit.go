package mbr

import (
	"encoding/binary"
	"fmt"
	"slices"
	"strconv"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/table"
)

// New is an empty table with the disk signature, which must not be 0. The bytes of
// the present first sector are given for its boot code, which stays.
func New(dev block.Device, signature uint32) (*Table, error) {
	sector := dev.Geometry().Logical
	now, err := block.ReadSized(dev, 0, sector, 1<<16)
	if err != nil {
		return nil, err
	}
	t := &Table{sector: sector, sectors: uint64(dev.Size() / sector), first: make([]byte, sector)}
	if !bootSector(now) {
		copy(t.first[:bootCode], now)
	}
	binary.LittleEndian.PutUint32(t.first[diskSignature:], signature)
	binary.LittleEndian.PutUint16(t.first[magic:], 0xAA55)
	return t, nil
}

// Clone is a copy that can be edited.
func (t *Table) Clone() *Table {
	c := *t
	c.first, c.chain = slices.Clone(t.first), slices.Clone(t.chain)
	for i := range c.chain {
		c.chain[i].raw = slices.Clone(c.chain[i].raw)
	}
	return &c
}

// Add makes a partition: a logical one inside the extended partition, else a
// primary one. Number 0 is the lowest that is free.
func (t *Table) Add(p table.Partition) error {
	m := t.Model()
	role, next := table.Primary, firstLogical+len(t.logicals())
	if m.Inside(p.Span) {
		role = table.Logical
	}
	kind, err := t.fit(m, p, role)
	switch {
	case err != nil:
		return err
	case role == table.Logical && (p.Number == 0 || p.Number == next):
		return t.addLogical(p, kind)
	case role == table.Logical:
		return fmt.Errorf("partition %d: %w: inside the extended partition the next number is %d, since Linux counts along the chain",
			p.Number, table.ErrValue, next)
	case p.Number >= firstLogical:
		return fmt.Errorf("partition %d: %w: sectors %v are not inside an extended partition, and outside numbers go from 1 to %d",
			p.Number, table.ErrPlace, p.Span, slots)
	case p.Number < 0:
		return fmt.Errorf("partition %d: %w: numbers begin with 1", p.Number, table.ErrValue)
	}
	if p.Number == 0 {
		if p.Number, err = m.FreeNumber(); err != nil {
			return fmt.Errorf("%w: an MBR has %d; logical partitions go inside an extended one (--type extended), a GPT has space for 128",
				err, slots)
		}
	}
	if _, taken := m.Part(p.Number); taken {
		return fmt.Errorf("partition %d: %w", p.Number, table.ErrTaken)
	}
	if isExtended(kind) {
		if i := slices.IndexFunc(m.Parts, func(o table.Partition) bool { return o.Role == table.Extended }); i >= 0 {
			return fmt.Errorf("%w: partition %d is extended already, and an MBR has one", table.ErrValue, m.Parts[i].Number)
		}
		t.chain = []link{t.emptyLink(p.Span.Start, p.Span)}
	}
	r := recordOf(t.first, p.Number-1)
	clear(r)
	r.put(kind, byte(p.Attributes), p.Span.Start, p.Span.Count, 0)
	return nil
}

// fit checks what holds for every partition and gives its type byte.
func (t *Table) fit(m *table.Table, p table.Partition, role table.Role) (byte, error) {
	n, err := strconv.ParseUint(p.Type, 16, 8)
	switch {
	case err != nil || n == 0 || n == typeGPT:
		return 0, fmt.Errorf("type %q: %w: an MBR has bytes from 01 to ff without %02x", p.Type, table.ErrValue, typeGPT)
	case p.Name != "":
		return 0, fmt.Errorf("%q: %w: an MBR keeps no names", p.Name, table.ErrName)
	case p.Attributes&^table.Boot(table.MBR) != 0:
		return 0, fmt.Errorf("attributes %#x: %w: an MBR has the boot flag alone", p.Attributes, table.ErrValue)
	case role == table.Logical && p.Attributes != 0:
		return 0, fmt.Errorf("%w: the boot flag belongs to a primary partition", table.ErrValue)
	case role == table.Logical && isExtended(byte(n)):
		return 0, fmt.Errorf("%w: there is one extended partition already around sectors %v", table.ErrValue, p.Span)
	case p.Span.Count == 0 || !p.Span.Within(t.sectors) || p.Span.Start == 0:
		return 0, fmt.Errorf("sectors %v: %w: the disk has sectors 1 to %d", p.Span, table.ErrPlace, t.sectors-1)
	case !p.Span.Within(reach):
		return 0, fmt.Errorf("sectors %v: %w: an MBR reaches to sector %d; a GPT reaches further", p.Span, table.ErrPlace, uint64(reach-1))
	}
	for _, o := range m.Parts {
		switch {
		case o.Number == p.Number && p.Number > 0, !o.Span.Overlaps(p.Span), role == table.Logical && o.Role == table.Extended, role == table.Extended && o.Role == table.Logical:
		case o.Role == table.Extended:
			return 0, fmt.Errorf("sectors %v: %w: extended partition %d has %v, and only logical partitions are inside",
				p.Span, extent.ErrOverlap, o.Number, o.Span)
		default:
			return 0, fmt.Errorf("sectors %v: %w: partition %d has %v", p.Span, extent.ErrOverlap, o.Number, o.Span)
		}
	}
	if role == table.Logical && (!m.Inside(p.Span) || overlapsAny(p.Span, m.Chain)) {
		return 0, fmt.Errorf("sectors %v: %w: a logical partition is inside the extended one, and covers no sector of the chain",
			p.Span, table.ErrPlace)
	}
	return byte(n), nil
}

func (t *Table) emptyLink(at uint64, outer extent.Span) link {
	l := link{at, outer, make([]byte, t.sector)}
	binary.LittleEndian.PutUint16(l.raw[magic:], 0xAA55)
	return l
}

// editable refuses a chain that is not as Fundus writes it.
//
// A chain of another program may have more than two records in a sector, records in another
// order, or links that go back. Linux reads most of that; to edit it without losing what
// the other program meant is more than is known here, so that it is refused.
func (t *Table) editable() error {
	if t.broken != nil {
		return t.broken
	}
	outer := 0
	for i := range slots {
		if r := recordOf(t.first, i); r.used() && r.extended() {
			outer++
		}
	}
	if outer > 1 {
		return fmt.Errorf("%w: there are %d extended partitions", ErrUnusual, outer)
	}
	for _, l := range t.chain {
		if !l.plain() {
			return fmt.Errorf("%w: sector %d has more than a partition and a link", ErrUnusual, l.at)
		}
	}
	return nil
}

// addLogical puts the partition at the end of the chain. Its chain sector lies 1 MiB
// before it where there is room, else at the beginning of the gap.
//
// At the end whatever the place on the disk: Linux numbers along the chain, and one that is
// put in between gives every later partition another number, and the running system another
// device under the same name.
func (t *Table) addLogical(p table.Partition, kind byte) error {
	if err := t.editable(); err != nil {
		return err
	}
	if len(t.chain) >= mostLinks-firstLogical {
		return fmt.Errorf("%w: Linux takes numbers below %d", table.ErrNoSlot, mostLinks)
	}
	outer := t.chain[0].outer
	last := &t.chain[len(t.chain)-1]
	if _, span := last.data(); len(t.chain) == 1 && span.Count == 0 && last.at < p.Span.Start { // the empty head
		recordOf(last.raw, dataRecord).put(kind, 0, p.Span.Start, p.Span.Count, last.at)
		return nil
	}
	at, err := t.chainSector(p.Span)
	if err != nil {
		return err
	}
	l := t.emptyLink(at, outer)
	recordOf(l.raw, dataRecord).put(kind, 0, p.Span.Start, p.Span.Count, at)
	t.chain = append(t.chain, l)
	t.relink()
	return nil
}

// chainStep is how far before a partition its chain sector lies, in bytes: the
// same distance as before the first one, so that partitions lie close.
const chainStep = 1 << 20

func (t *Table) chainSector(span extent.Span) (uint64, error) {
	for _, gap := range t.Model().Gaps() {
		if gap.Contains(span) {
			if gap.Start == span.Start {
				break
			}
			return max(gap.Start, span.Start-min(span.Start, chainStep/uint64(t.sector))), nil
		}
	}
	return 0, fmt.Errorf("sectors %v: %w: a logical partition needs a free sector before it, for the chain", span, table.ErrPlace)
}

// relink makes each sector of the chain lead to the next one. A link covers its
// chain sector and the partition.
//
// The sectors of a link count from the extended partition, those of the partition in it
// from the chain sector: two bases in one sector, which the format has kept from its
// beginnings.
func (t *Table) relink() {
	for i := range t.chain {
		l := &t.chain[i]
		r := recordOf(l.raw, linkRecord)
		if i == len(t.chain)-1 {
			clear(r)
			continue
		}
		next := t.chain[i+1]
		end := next.at + 1
		if _, data := next.data(); data.Count > 0 {
			end = data.End()
		}
		if r.used() && l.outer.Start+r.first() == next.at && r.count() == end-next.at {
			continue // every byte stays
		}
		kind := r.kind() // an unused record may have kept any type, of which none leads on
		if !isExtended(kind) {
			kind = typeExtended
		}
		r.put(kind, 0, next.at, end-next.at, l.outer.Start)
	}
}

// Remove takes a partition out. With the extended one goes its empty chain; one
// that holds partitions stays.
func (t *Table) Remove(number int) error {
	p, ok := t.Model().Part(number)
	switch {
	case !ok:
		return fmt.Errorf("partition %d: %w", number, table.ErrNoEntry)
	case p.Role == table.Extended && len(t.logicals()) > 0:
		inside := fmt.Sprint(firstLogical)
		if n := len(t.logicals()); n > 1 {
			inside = fmt.Sprintf("%d to %d", firstLogical, firstLogical+n-1)
		}
		return fmt.Errorf("partition %d: %w: it is extended and holds %s; name what it holds as well", number, table.ErrValue, inside)
	case p.Role != table.Logical:
		clear(recordOf(t.first, number-1))
		if p.Role == table.Extended {
			t.chain, t.broken = nil, nil
		}
		return nil
	}
	if err := t.editable(); err != nil {
		return err
	}
	i := t.linkOf(number)
	if i == 0 { // the head stays: the extended partition leads to it
		clear(recordOf(t.chain[0].raw, dataRecord))
	} else {
		t.chain = slices.Delete(t.chain, i, i+1)
	}
	t.relink()
	return nil
}

// linkOf is the index in the chain of a logical partition.
func (t *Table) linkOf(number int) int {
	at := firstLogical
	for i, l := range t.chain {
		if _, span := l.data(); span.Count > 0 {
			if at == number {
				return i
			}
			at++
		}
	}
	return -1
}

// SetID gives the disk another signature, of which the PARTUUIDs are made.
func (t *Table) SetID(id string) error {
	n, err := strconv.ParseUint(id, 16, 32)
	if err != nil || n == 0 || len(id) != 8 {
		return fmt.Errorf("%q: %w: an MBR has eight hexadecimal digits that are not all zeros", id, table.ErrValue)
	}
	if err := t.editable(); err != nil {
		return err
	}
	binary.LittleEndian.PutUint32(t.first[diskSignature:], uint32(n))
	return nil
}

// Set changes type, boot flag and span of a partition, and the number of a primary
// one. An extended or a logical partition keeps its start, which its chain names.
func (t *Table) Set(number int, p table.Partition) error {
	m := t.Model()
	was, ok := m.Part(number)
	if !ok {
		return fmt.Errorf("partition %d: %w", number, table.ErrNoEntry)
	}
	wanted := p.Number
	p.Number = number
	kind, err := t.fit(m, p, was.Role)
	switch {
	case err != nil:
		return err
	case p.UUID != was.UUID:
		return fmt.Errorf("%w: in an MBR a PARTUUID is the disk signature with the number", table.ErrValue)
	case wanted != number && was.Role == table.Logical, wanted > slots && wanted != number, wanted < 1:
		return fmt.Errorf("partition %d: %w: logical partitions are numbered along the chain, others from 1 to %d",
			wanted, table.ErrValue, slots)
	case was.Role != table.Primary && p.Span.Start != was.Span.Start:
		return fmt.Errorf("partition %d: %w: an %s partition begins where its chain says", number, table.ErrPlace, was.Role)
	case (was.Role == table.Extended) != isExtended(kind):
		return fmt.Errorf("partition %d: %w: a type change cannot make a partition extended, or the reverse: remove it and add it again",
			number, table.ErrValue)
	}
	if _, taken := m.Part(wanted); taken && wanted != number {
		return fmt.Errorf("partition %d: %w", wanted, table.ErrTaken)
	}
	if was.Role == table.Logical {
		return t.setLogical(number, kind, p.Span, was.Span)
	}
	if was.Role == table.Extended && p.Span != was.Span {
		if err := t.around(p.Span); err != nil {
			return fmt.Errorf("partition %d: %w", number, err)
		}
	}
	r := record(slices.Clone(recordOf(t.first, number-1)))
	clear(recordOf(t.first, number-1))
	r.set(kind, byte(p.Attributes), p.Span, was.Span, 0)
	copy(recordOf(t.first, wanted-1), r)
	return nil
}

func (t *Table) setLogical(number int, kind byte, span, was extent.Span) error {
	if err := t.editable(); err != nil {
		return err
	}
	l := t.chain[t.linkOf(number)]
	recordOf(l.raw, dataRecord).set(kind, 0, span, was, l.at)
	t.relink()
	return nil
}

// set changes what differs: every other byte stays.
func (r record) set(kind, boot byte, span, was extent.Span, base uint64) {
	if span != was {
		r.put(kind, boot, span.Start, span.Count, base)
	}
	r[recordType], r[recordBoot] = kind, boot
}

// around makes the span the one of the extended partition, unless it would leave
// something out.
//
// The links are counted from its start, which stays: only its end may move.
func (t *Table) around(span extent.Span) error {
	for _, l := range t.chain {
		if !span.Contains(extent.Span{Start: l.at, Count: 1}) {
			return fmt.Errorf("%w: a sector of the chain is at %d", table.ErrPlace, l.at)
		}
	}
	for _, p := range t.logicals() {
		if !span.Contains(p.Span) {
			return fmt.Errorf("%w: logical partition %d reaches to sector %d", table.ErrPlace, p.Number, p.Span.End()-1)
		}
	}
	for i := range t.chain {
		t.chain[i].outer = span
	}
	return nil
}
