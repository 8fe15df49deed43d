package stage

import (
	"cmp"
	"io"
	"slices"

	"fundus/core/block"
	"fundus/core/extent"
	corefs "fundus/core/fs"
	"fundus/core/quantity"
	"fundus/internal/draft"
)

// changedIn is what the phases write, as spans of bytes on the disk.
func changedIn(o *block.Overlay) []extent.Span {
	var out []extent.Span
	for i := range o.Phases() {
		for _, e := range o.Phase(i) {
			out = append(out, extent.Span{Start: uint64(e.Off), Count: uint64(e.Len)})
		}
	}
	return out
}

// fenceFor chooses the sectors to fence: those with a signature before or
// after that the step writes. It gives nil where there is none.
func fenceFor(before, after []corefs.Content, start, sector int64, changed []extent.Span) *draft.Fence {
	olds, news := sectors(before, start, sector, changed), sectors(after, start, sector, changed)
	all := slices.Concat(olds, news)
	if len(all) == 0 {
		return nil
	}
	f := &draft.Fence{Old: all[0], New: all[0]}
	if len(news) > 0 {
		f.New = news[0]
	}
	for _, s := range all {
		if s != f.Old && s != f.New && !slices.Contains(f.Rest, s) {
			f.Rest = append(f.Rest, s)
		}
	}
	return f
}

// beforeFence is how many of the first phases write behind the end of what is there and grows:
// it is whole until the others come.
func beforeFence(o *block.Overlay, f *draft.Fence, before, after []corefs.Content, start quantity.Bytes) (n int) {
	if f == nil || len(before) != 1 || len(after) != 1 {
		return 0
	}
	a, b := before[0], after[0]
	end := uint64(start + a.Size)
	behind := func(s extent.Span) bool { return s.Start >= end }
	if a.Kind != b.Kind || a.UUID == "" || a.UUID != b.UUID || a.Size == 0 || a.Size >= b.Size ||
		slices.ContainsFunc(slices.Concat(f.Rest, []extent.Span{f.Old, f.New}), behind) {
		return 0
	}
	for n < o.Phases() && !slices.ContainsFunc(o.Phase(n), func(e block.Extent) bool { return uint64(e.Off) < end }) {
		n++
	}
	return n
}

// sectors lists the sectors of all signatures that are written; what the kernel
// would believe first: a file system before a table.
func sectors(contents []corefs.Content, start, sector int64, changed []extent.Span) []extent.Span {
	sorted := slices.Clone(contents)
	slices.SortStableFunc(sorted, func(a, b corefs.Content) int { return cmp.Compare(rank(a), rank(b)) })
	var out []extent.Span
	for _, c := range sorted {
		for _, sig := range c.Signatures {
			first := sig.Start / uint64(sector) * uint64(sector)
			for at := first; at < sig.End(); at += uint64(sector) {
				s := extent.Span{Start: uint64(start) + at, Count: uint64(sector)}
				if !slices.Contains(out, s) && slices.ContainsFunc(changed, s.Overlaps) {
					out = append(out, s)
				}
			}
		}
	}
	return out
}

func rank(c corefs.Content) int {
	if c.Class == corefs.Table {
		return 1
	}
	return 0
}

// Strokes gives what carries the steps out, in order. The block is what sectors
// are fenced with.
func (s *Stage) Strokes(block []byte) []draft.Stroke {
	var out []draft.Stroke
	layers := map[int]Layer{}
	for _, d := range s.disks {
		for _, l := range d.layers {
			layers[l.step] = l
		}
	}
	for i := range s.steps {
		if l, over := layers[i]; over {
			out = append(out, l.Strokes(i, block)...)
		} else {
			out = append(out, draft.Stroke{Step: i})
		}
	}
	return out
}

// written is the layer of a step that writes bytes.
type written struct {
	*block.Overlay
	draft.Writing
}

// Device implements Layer.
func (l *written) Device() block.Device { return l.Overlay }

// Strokes implements Layer: the phases, and the fence around them.
func (l *written) Strokes(number int, fence []byte) []draft.Stroke {
	o, w := l.Overlay, l.Writing
	last := o.Phases()
	view := fenceView{fence, o.Geometry().Logical}
	stroke := func(role draft.Role, extents []block.Extent, before, after io.ReaderAt) draft.Stroke {
		return draft.Stroke{
			Step:  number,
			Bytes: &draft.Bytes{Role: role, Device: w.Target.Device, Extents: extents, Before: before, After: after},
		}
	}
	var out []draft.Stroke
	var fenced []extent.Span
	phase := func(i int) {
		if extents := cut(o.Phase(i), fenced); len(extents) > 0 {
			out = append(out, stroke(draft.WritePart, extents, o.After(i), o.After(i+1)))
		}
	}
	for i := range w.Before {
		phase(i)
	}
	if f := w.Fence; f != nil {
		fenced = slices.Concat([]extent.Span{f.Old, f.New}, f.Rest)
		out = append(out, stroke(draft.SetFence, spans(f.Old), o.After(0), view))
		if rest := without(fenced, f.Old); len(rest) > 0 {
			out = append(out, stroke(draft.SetFence, spans(rest...), o.After(0), view))
		}
	}
	for i := w.Before; i < last; i++ {
		phase(i)
	}
	if f := w.Fence; f != nil {
		if rest := without(fenced, f.New); len(rest) > 0 {
			out = append(out, stroke(draft.LiftFence, spans(rest...), view, o.After(last)))
		}
		out = append(out, stroke(draft.LiftFence, spans(f.New), view, o.After(last)))
	}
	return out
}

// without drops one span and all repetitions.
func without(list []extent.Span, drop extent.Span) []extent.Span {
	var out []extent.Span
	for _, s := range list {
		if s != drop && !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	return out
}

func spans(list ...extent.Span) []block.Extent {
	sorted := slices.Clone(list)
	slices.SortFunc(sorted, func(a, b extent.Span) int { return cmp.Compare(a.Start, b.Start) })
	var out []block.Extent
	for _, s := range sorted {
		out = append(out, block.Extent{Off: int64(s.Start), Len: int64(s.Count)})
	}
	return out
}

// cut takes the fenced sectors out of the extents: they are written when the
// fence is lifted.
func cut(extents []block.Extent, fenced []extent.Span) []block.Extent {
	var out []block.Extent
	for _, e := range extents {
		room := extent.Span{Start: uint64(e.Off), Count: uint64(e.Len)}
		for _, piece := range extent.Gaps(room, fenced) {
			out = append(out, block.Extent{Off: int64(piece.Start), Len: int64(piece.Count), Zero: e.Zero})
		}
	}
	return out
}

// fenceView reads as if every sector held the fence.
type fenceView struct {
	block  []byte
	sector int64
}

// ReadAt repeats the fence at each sector; behind it the sector is zeros.
func (v fenceView) ReadAt(p []byte, off int64) (int, error) {
	for i := range p {
		at := (off + int64(i)) % v.sector
		if at < int64(len(v.block)) {
			p[i] = v.block[at]
		} else {
			p[i] = 0
		}
	}
	return len(p), nil
}
