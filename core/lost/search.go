// Package lost finds file systems, swap and volumes on a disk whose partition
// table is lost, by their superblocks, and proposes which of them were partitions.
//
// The whole disk is read once. Wherever the magic of a kind lies as far behind a
// sector as the kind has it, the probe of that kind looks, as if a partition began
// there; what it recognises is held against its own copies further in. The more
// speaks for a find, the higher is its confidence; where two overlap, the one with
// the higher confidence is proposed, and of equals the larger: an image file inside
// of a file system is a file system too.
package lost

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/kind"
	"fundus/core/progress"
	"fundus/core/quantity"
)

// Found is one place where a partition may have begun.
type Found struct {
	Start      quantity.Bytes
	Content    fs.Content
	Copies     int         // of its superblock that say the same
	Looked     int         // places where a copy should be
	Headless   bool        // its first superblock is gone: it is known by the copies
	Confidence int         // percent
	Span       extent.Span // sectors, as proposed
	Proposed   bool
	Conflict   int      // with which other find it overlaps, as an index; -1: with none
	Why        []string // what speaks for and against it
}

const (
	chunk = 1 << 20
	// unit is the smallest sector: devices begin on multiples of it.
	unit = 512
	// likely is the confidence from which a find is proposed.
	likely = 60
	// most is how many finds are looked at closely: a disk full of magics is no disk
	// of anybody's.
	most = 10_000
)

// Find reads the disk and lists what it found in the order of its place, with
// proposals that do not overlap. Starts on a multiple of step count for more.
func Find(ctx context.Context, dev block.Device, step quantity.Bytes, sink progress.Sink) ([]Found, error) {
	starts, err := candidates(ctx, dev, sink)
	if err != nil {
		return nil, err
	}
	var out []Found
	for _, c := range starts {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		f, ok := confirm(dev, c, step)
		if !ok {
			f, ok = begun(dev, c, step)
		}
		there := func(o Found) bool { return o.Start == f.Start && o.Content.Kind == f.Content.Kind }
		if ok && !(f.Headless && slices.ContainsFunc(out, there)) {
			out = append(out, f)
		}
	}
	slices.SortStableFunc(out, func(a, b Found) int { return cmp.Compare(a.Start, b.Start) })
	propose(out, dev, step)
	return out, nil
}

// candidate is a sector at which a kind may begin.
type candidate struct {
	start int64 // byte
	kind  kind.Kind
}

// readers is how many pieces are read and searched at a time: one is read while
// another is searched.
const readers = 2

// candidates reads the disk from the beginning to the end.
func candidates(ctx context.Context, dev block.Device, sink progress.Sink) ([]candidate, error) {
	sector, groups := max(dev.Geometry().Logical, unit), groups()
	order := &order{dev: dev, sink: sink}
	var all [readers][]candidate
	var errs [readers]error
	var wait sync.WaitGroup
	for i := range readers {
		wait.Go(func() {
			buf := make([]byte, chunk)
			for at, more := order.next(); more && errs[i] == nil && ctx.Err() == nil; at, more = order.next() {
				var b []byte
				if b, errs[i] = readable(dev, buf[:min(chunk, dev.Size()-at)], at, sector); errs[i] == nil {
					all[i] = in(all[i], groups, b, at, sector)
				}
				if len(all[i]) > most {
					errs[i] = fmt.Errorf("more than %d places look like the beginning of something", most)
				}
			}
		})
	}
	wait.Wait()
	if err := errors.Join(append(errs[:], ctx.Err())...); err != nil {
		return nil, err
	}
	out := slices.Concat(all[:]...)
	slices.SortFunc(out, func(a, b candidate) int {
		return cmp.Or(cmp.Compare(a.start, b.start), cmp.Compare(a.kind.Name, b.kind.Name))
	})
	return out, nil
}

// order gives out the pieces of the disk in their order, without those that are not
// stored.
type order struct {
	mu    sync.Mutex
	dev   block.Device
	sink  progress.Sink
	at    int64 // the next piece
	until int64 // where the run of data or zeros ends that was asked for last
}

func (o *order) next() (at int64, more bool) {
	o.mu.Lock()
	defer o.mu.Unlock()
	size := o.dev.Size()
	for ; o.at < size && o.at >= o.until; o.at += chunk {
		_, end, hole, err := o.dev.Next(o.at)
		if err != nil || !hole || end-o.at < chunk {
			o.until = end
			break
		}
		o.at += (end-o.at)/chunk*chunk - chunk
	}
	o.sink.Send("search", quantity.Bytes(min(o.at, size)), quantity.Bytes(size))
	at = o.at
	o.at += chunk
	return at, at < size
}

// readable reads as much as the disk gives: what cannot be read is zeros here, a
// sector at a time.
//
// Disks whose table is lost are often those that begin to fail: one bad sector must not end
// the search, and a disk of which more than half a piece cannot be read is given up as a
// whole.
func readable(dev block.Device, b []byte, at, sector int64) ([]byte, error) {
	if block.ReadFull(dev, b, at) == nil {
		return b, nil
	}
	bad := 0
	for off := int64(0); off < int64(len(b)); off += sector {
		piece := b[off:min(off+sector, int64(len(b)))]
		if err := block.ReadFull(dev, piece, at+off); err != nil {
			clear(piece)
			if bad++; int64(bad)*sector > int64(len(b))/2 {
				return nil, err
			}
		}
	}
	return b, nil
}

// mark is the magic of a kind.
type mark struct {
	kind.Mark
	kind kind.Kind
}

// group are the magics that lie equally far behind a multiple of unit: one look at
// one byte tells most of what they are not.
type group struct {
	offset int64
	first  [256]bool // with which byte one of them begins
	marks  []mark
}

func groups() (out []*group) {
	for _, k := range kind.All() {
		for _, m := range k.Marks {
			i := slices.IndexFunc(out, func(g *group) bool { return g.offset == m.At%unit })
			if i < 0 {
				i, out = len(out), append(out, &group{offset: m.At % unit})
			}
			out[i].first[m.Bytes[0]] = true
			out[i].marks = append(out[i].marks, mark{m, k})
		}
	}
	return out
}

// in finds the magics in the piece, and where the device would begin for each. None
// crosses the border of a unit.
func in(out []candidate, groups []*group, p []byte, at, sector int64) []candidate {
	for from := int64(0); from+unit <= int64(len(p)); from += unit {
		b := p[from : from+unit]
		for _, g := range groups {
			if !g.first[b[g.offset]] {
				continue
			}
			for _, m := range g.marks {
				start := at + from - (m.At - g.offset)
				if start >= 0 && start%sector == 0 && string(b[g.offset:][:len(m.Bytes)]) == m.Bytes {
					out = append(out, candidate{start, m.kind})
				}
			}
		}
	}
	return out
}

// confirm has the probe look, and the copies.
func confirm(dev block.Device, c candidate, step quantity.Bytes) (Found, bool) {
	part, err := block.NewSlice(dev, c.start, dev.Size()-c.start)
	if err != nil {
		return Found{}, false
	}
	content, err := c.kind.Probe(part)
	if err != nil || content == nil || content.State == fs.Damaged || content.Class == fs.Table || content.Class == fs.Fence ||
		content.AtEnd {
		return Found{}, false
	}
	f := Found{Start: quantity.Bytes(c.start), Content: *content, Conflict: -1}
	if c.kind.Copies != nil {
		var first bool
		if f.Copies, f.Looked, first = c.kind.Copies(part); !first {
			return Found{}, false // it is a copy itself
		}
	}
	f.weigh(dev, step)
	return f, true
}

// begun is what a copy of a superblock is left of, where the first one is gone: it begins
// before the copy, as far as that says.
func begun(dev block.Device, c candidate, step quantity.Bytes) (Found, bool) {
	if c.kind.Begun == nil {
		return Found{}, false
	}
	part, err := block.NewSlice(dev, c.start, dev.Size()-c.start)
	if err != nil {
		return Found{}, false
	}
	before, ok := c.kind.Begun(part)
	if !ok || before > c.start {
		return Found{}, false
	}
	start := c.start - before
	whole, err := block.NewSlice(dev, start, dev.Size()-start)
	if err != nil || start%max(dev.Geometry().Logical, unit) != 0 {
		return Found{}, false
	}
	if first, err := c.kind.Probe(whole); err != nil || first != nil && first.State != fs.Damaged {
		return Found{}, false // it is found by itself
	}
	r := c.kind.Remains(whole)
	if r == nil {
		return Found{}, false
	}
	f := Found{Start: quantity.Bytes(start), Content: r.Content, Copies: len(r.Copies), Looked: r.Looked, Headless: true, Conflict: -1}
	f.weigh(dev, step)
	return f, true
}

// weigh adds up what speaks for the find.
//
// The weights are not measured, they order: a superblock whose copies agree stands above
// every place on the disk, a start where partitions begin above one where none does, and
// what would reach past the end of the disk cannot be whole.
func (f *Found) weigh(dev block.Device, step quantity.Bytes) {
	f.Confidence = 40
	say := func(points int, format string, args ...any) {
		f.Confidence = min(max(f.Confidence+points, 1), 100)
		f.Why = append(f.Why, fmt.Sprintf(format, args...))
	}
	sector := quantity.Bytes(dev.Geometry().Logical)
	switch lba := uint64(f.Start / sector); {
	case f.Start%step == 0:
		say(15, "begins on a multiple of %v", step)
	case lba%63 == 0:
		say(8, "begins on a track of 63 sectors, as on old disks")
	default:
		say(-15, "begins at no usual place")
	}
	if f.Headless { // a later one may have been made in its place
		say(-15, "its first superblock is gone")
	}
	switch {
	case f.Looked > 0 && f.Copies == 0:
		say(-20, "none of %d copies of its superblock is there", f.Looked)
	case f.Looked > 0:
		say(30*f.Copies/f.Looked, "%d of %d copies of its superblock say the same", f.Copies, f.Looked)
	default:
		say(10, "it has no copies to compare")
	}
	switch {
	case f.Content.Size == 0:
		say(0, "its size is not recorded")
	case f.Content.Size > quantity.Bytes(dev.Size())-f.Start:
		say(-40, "it reaches past the end of the disk")
	default:
		say(10, "it ends on the disk")
	}
	if f.sure(dev) {
		say(100, "a checksum over its label and its size is right")
	}
	if f.Content.UUID != "" {
		f.Confidence = min(f.Confidence+5, 100)
	}
}

// sure reports whether there is no doubt of the find: its own checksum says how large it is, and
// the disk has room for that. What lies inside of it is a part of it, whatever speaks for it.
func (f *Found) sure(dev block.Device) bool {
	return f.Content.Sealed && f.Content.Size <= quantity.Bytes(dev.Size())-f.Start
}

// propose chooses finds that do not overlap, what is sure first, then the best, and gives each
// its span.
func propose(list []Found, dev block.Device, step quantity.Bytes) {
	order := make([]int, len(list))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int {
		x, y := list[a], list[b]
		sure := func(f Found) int { return map[bool]int{true: 1}[f.sure(dev)] }
		return cmp.Or(cmp.Compare(sure(y), sure(x)), cmp.Compare(y.Confidence, x.Confidence),
			cmp.Compare(y.Content.Size, x.Content.Size), cmp.Compare(x.Start, y.Start))
	})
	sector := quantity.Bytes(dev.Geometry().Logical)
	for _, i := range order {
		f := &list[i]
		size := max(f.Content.Size, sector)
		rounded, ok := size.Up(sector)
		if !ok {
			continue
		}
		f.Span = extent.Span{Start: uint64(f.Start / sector), Count: uint64(rounded / sector)}
		for k := range list {
			if o := list[k]; k != i && o.Proposed && o.Span.Overlaps(f.Span) {
				if f.Conflict = k; o.sure(dev) {
					f.Confidence, f.Why = 1, []string{fmt.Sprintf("it is inside of the %s at byte %d, which is certain",
						o.Content.Kind, o.Start)}
				}
			}
		}
		f.Proposed = f.Conflict < 0 && f.Confidence >= likely && f.Span.Within(uint64(dev.Size())/uint64(sector))
	}
	stretch(list, dev, step)
}

// stretch lets a proposal reach to the next multiple of step, as partitions do, or,
// where its size is not recorded, to the next one.
//
// Partitions end on the alignment step as they begin on it; the file system in one is often
// a little shorter. A proposal that ended with the file system would be right for the data,
// and wrong for the one who compares it with what he remembers.
func stretch(list []Found, dev block.Device, step quantity.Bytes) {
	sector := quantity.Bytes(dev.Geometry().Logical)
	end := uint64(quantity.Bytes(dev.Size())/step*step) / uint64(sector)
	for i := range list {
		f := &list[i]
		next := end
		for _, o := range list {
			if o.Proposed && o.Span.Start > f.Span.Start {
				next = min(next, o.Span.Start)
			}
		}
		want := f.Span.End()
		if f.Content.Size == 0 {
			want = next
		}
		if up, ok := quantity.Bytes(want * uint64(sector)).Up(step); ok && f.Start%step == 0 {
			want = uint64(up / sector)
		}
		if f.Proposed && want > f.Span.End() {
			f.Span.Count = max(min(want, next), f.Span.End()) - f.Span.Start
		}
	}
}
