package mbr

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"slices"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/table"
)

// Write brings the table onto the device: first the sectors of the chain that no
// link leads to yet, then those in use, from the end of the chain on, then sector
// 0, with a sync behind each step. Every step that Linux can see is one sector.
//
// A sector that no link leads to can be written at any time, as nobody sees it; one that is
// led to is a switch of its own. From the end on, so that a link never leads to a sector
// that is not there yet.
func (t *Table) Write(dev block.Device) (warning string, err error) {
	if err := t.valid(); err != nil {
		return "", err
	}
	old, err := Read(dev)
	if err != nil {
		return "", err
	}
	led := map[uint64]bool{}
	if old != nil {
		for _, l := range old.chain {
			led[l.at] = true
		}
	}
	if !t.oneSwitch(old) {
		warning = "sector 0 and the chain of logical partitions, or two places of the chain, change: a power cut between them leaves one changed and the other not, until fundus recover; done one after the other, each is one step"
	}
	w := &writer{dev: dev, sector: t.sector}
	for _, l := range t.chain {
		if !led[l.at] {
			w.put(l.at, l.raw)
		}
	}
	w.sync()
	for i := len(t.chain) - 1; i >= 0; i-- {
		if l := t.chain[i]; led[l.at] {
			w.put(l.at, l.raw)
			w.sync()
		}
	}
	w.put(0, t.first)
	w.sync()
	return warning, w.err
}

// oneSwitch sees to it that Linux takes a change of several sectors of the chain at
// once: all but the first of those that it would see changed go to free sectors, to
// which the first one leads then. It reports whether one sector is the switch: not where
// there is no room for that, or where sector 0 changes as well. The chain is moved
// whole or not at all: a sector that has been moved and is led to by none would be a
// partition that is lost, or one that was removed and stays.
func (t *Table) oneSwitch(old *Table) bool {
	if old == nil {
		return true
	}
	was := map[uint64]link{}
	for _, l := range old.chain {
		was[l.at] = l
	}
	first, last := -1, -1
	for i, l := range t.chain {
		if o, led := was[l.at]; led && seenChanged(o, l) {
			if first < 0 {
				first = i
			}
			last = i
		}
	}
	if first < 0 {
		return true
	}
	moved := t.Clone()
	moved.chain = moved.chain[:first+1]
	for i, l := range t.chain[first+1:] {
		_, led := was[l.at]
		_, span := l.data()
		switch {
		case !led || first+1+i > last: // Linux does not see it before the switch, or sees it as it was
		case span.Count == 0:
			continue // it holds no partition, and nobody misses it
		default:
			at, ok := moved.freeBefore(old, t, l, span)
			if !ok {
				return false
			}
			l = link{at, l.outer, slices.Clone(l.raw)}
			binary.LittleEndian.PutUint32(recordOf(l.raw, dataRecord)[recordFirst:], uint32(span.Start-at))
		}
		moved.chain = append(moved.chain, l)
	}
	moved.relink()
	t.chain = moved.chain
	return bytes.Equal(old.first, t.first)
}

// seenChanged reports whether Linux sees another partition, or goes on elsewhere.
func seenChanged(a, b link) bool {
	dataA, spanA := a.data()
	dataB, spanB := b.data()
	nextA, _ := a.next()
	nextB, _ := b.next()
	goes := func(r record) uint64 {
		if r == nil {
			return 0
		}
		return r.first()
	}
	return spanA != spanB || dataA.kind() != dataB.kind() || goes(nextA) != goes(nextB)
}

// freeBefore is a sector before the partition that none of the tables uses, as near to
// it as can be: not the one before, not the one that is wanted, and not this one, in
// which some have been moved already.
func (t *Table) freeBefore(old, wanted *Table, l link, data extent.Span) (uint64, bool) {
	var used []extent.Span
	for _, m := range []*table.Table{old.Model(), wanted.Model(), t.Model()} {
		used = append(used, m.Chain...)
		for _, p := range m.Parts {
			if p.Role == table.Logical {
				used = append(used, p.Span)
			}
		}
	}
	before := extent.Gaps(extent.Span{Start: l.outer.Start, Count: data.Start - l.outer.Start}, used)
	if len(before) == 0 {
		return 0, false
	}
	return before[len(before)-1].End() - 1, true
}

// valid refuses a table that Linux would see otherwise.
func (t *Table) valid() error {
	m := t.Model()
	var outer, inner []table.Piece
	for _, p := range m.Parts {
		piece := table.Piece{Name: fmt.Sprintf("partition %d", p.Number), Span: p.Span}
		if p.Role == table.Logical {
			inner = append(inner, piece)
			if !m.Inside(p.Span) {
				return fmt.Errorf("partition %d: sectors %v: %w: outside of the extended partition", p.Number, p.Span, table.ErrPlace)
			}
			continue
		}
		outer = append(outer, piece)
	}
	if err := table.Disjoint(outer, t.sectors); err != nil {
		return err
	}
	for _, c := range m.Chain {
		inner = append(inner, table.Piece{Name: "a sector of the chain of logical partitions", Span: c})
	}
	return table.Disjoint(inner, t.sectors)
}

type writer struct {
	dev    block.Device
	sector int64
	dirty  bool
	err    error
}

// put writes the sector unless it is so already.
//
// A sector that stays is not written: each write is a chance to fail.
func (w *writer) put(at uint64, b []byte) {
	if w.err != nil {
		return
	}
	if now, err := block.ReadSized(w.dev, int64(at)*w.sector, w.sector, 1<<16); err == nil && bytes.Equal(now, b) {
		return
	}
	w.err, w.dirty = block.WriteBytes(w.dev, b, int64(at)*w.sector), true
}

func (w *writer) sync() {
	if w.err == nil && w.dirty {
		w.err, w.dirty = w.dev.Sync(), false
	}
}
