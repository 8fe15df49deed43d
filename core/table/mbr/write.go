package mbr

import (
	"bytes"
	"fmt"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/table"
)

// Write brings the table onto the device: first the sectors of the chain that no
// link leads to yet, then those in use, from the end of the chain on, then sector
// 0, with a sync behind each step. Every step that Linux can see is one sector.
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
	return "", w.err
}

// valid refuses a table that Linux would see otherwise.
func (t *Table) valid() error {
	m := t.Model()
	var outer, inner []extent.Span
	for _, p := range m.Parts {
		if p.Role == table.Logical {
			inner = append(inner, p.Span)
			if !m.Inside(p.Span) {
				return fmt.Errorf("partition %d: sectors %v: %w: outside of the extended partition", p.Number, p.Span, table.ErrPlace)
			}
			continue
		}
		outer = append(outer, p.Span)
	}
	if err := extent.Validate(outer, t.sectors); err != nil {
		return err
	}
	return extent.Validate(append(inner, m.Chain...), t.sectors)
}

type writer struct {
	dev    block.Device
	sector int64
	dirty  bool
	err    error
}

// put writes the sector unless it is so already.
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
