package schemes

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/finding"
	"fundus/core/quantity"
	"fundus/core/table"
	"fundus/core/table/gpt"
	"fundus/core/table/mbr"
	"fundus/test/amount"
)

const step = quantity.MiB

// view is the disk as it was after some phases.
type view struct {
	block.Device
	at io.ReaderAt
}

func (v view) ReadAt(p []byte, off int64) (int, error) { return v.at.ReadAt(p, off) }

// believed is what Linux would list.
func believed(t *testing.T, dev block.Device) *table.Table {
	t.Helper()
	state, err := gpt.Read(dev)
	if err == nil && state.Believed() != nil {
		return state.Believed().Model(quantity.Bytes(dev.Geometry().Logical))
	}
	m, err := mbr.Read(dev)
	if err != nil {
		t.Fatal(err)
	}
	if m == nil {
		return &table.Table{}
	}
	return m.Model()
}

func sameParts(a, b *table.Table) bool { return slices.Equal(a.Parts, b.Parts) && a.ID == b.ID }

// whole checks everything that holds for a table at any time, on the disk.
func whole(dev block.Device, want *table.Table) error {
	var bad []finding.Finding
	if want.Scheme == table.GPT {
		state, err := gpt.Read(dev)
		if err != nil {
			return err
		}
		bad = gpt.Check("sdb", state) // both copies, and what lies where
	} else {
		m, err := mbr.Read(dev)
		if m == nil || err != nil {
			return fmt.Errorf("no MBR: %w", err)
		}
		bad = mbr.Check("sdb", m)
	}
	if len(bad) > 0 {
		return errors.New(bad[0].Text)
	}
	all := append(slices.Clone(want.Chain), want.Gaps()...)
	for _, p := range want.Parts {
		if p.Role != table.Extended {
			all = append(all, p.Span)
		}
	}
	sum := uint64(0)
	for _, s := range all {
		sum += s.Count
	}
	if err := extent.Validate(all, want.Usable.End()); err != nil || sum != want.Usable.Count {
		return fmt.Errorf("partitions, chain and gaps are %d of %d sectors: %w", sum, want.Usable.Count, err)
	}
	return nil
}

// entries are the bytes of each partition's entry, by what it names.
func entries(t *testing.T, dev block.Device, m *table.Table) map[extent.Span]string {
	t.Helper()
	out, sector := map[extent.Span]string{}, int64(m.Sector)
	read := func(at int64, n int) string {
		b := make([]byte, n)
		if _, err := dev.ReadAt(b, at); err != nil {
			t.Fatal(err)
		}
		return string(b)
	}
	chain := 0
	for _, p := range m.Parts {
		switch {
		case m.Scheme == table.GPT:
			out[p.Span] = read(2*sector+int64(p.Number-1)*128, 128)
		case p.Role != table.Logical:
			out[p.Span] = read(446+int64(p.Number-1)*16, 16)
		default: // its sector of the chain is the one that leads there; some hold nothing
			at := func() int64 { return int64(m.Chain[chain].Start)*sector + 446 }
			for ; read(at()+4, 1) == "\x00" || read(at()+12, 4) == "\x00\x00\x00\x00"; chain++ {
			}
			out[p.Span] = read(at(), 8) + read(at()+12, 4) // where it begins counts from its sector, which may move
			chain++
		}
	}
	return out
}

// edit does one random thing to the table; what is refused changes nothing.
func edit(rng *rand.Rand, e table.Editor) (touched []extent.Span) {
	m := e.Model()
	kinds := map[table.Scheme][]string{table.GPT: {"0fc63daf-8483-4772-8e79-3d69d8477de4", "0657fd6d-a4ab-43c4-84e5-0933c84b4f4f"}, table.MBR: {"83", "82", "05"}}[m.Scheme]
	typ := kinds[rng.IntN(len(kinds))]
	var id uuid.UUID
	for i := range id {
		id[i] = byte(rng.Uint32())
	}
	fresh := table.Partition{Type: typ, UUID: id.String(), Attributes: table.Boot(m.Scheme) * uint64(rng.IntN(2))}
	if m.Scheme == table.GPT {
		fresh.Name = fmt.Sprintf("scans-%d", rng.IntN(100))
	}
	size := quantity.Bytes(1+rng.IntN(12)) * step
	switch n := rng.IntN(10); {
	case n < 5 || len(m.Parts) == 0:
		if span, err := m.Place(size, step); err == nil {
			fresh.Span = span
			_ = e.Add(fresh)
		}
	case n < 7:
		for range 1 + rng.IntN(5) { // several in one go
			if now := e.Model(); len(now.Parts) > 0 {
				_ = e.Remove(now.Parts[rng.IntN(len(now.Parts))].Number)
			}
		}
	default:
		p := m.Parts[rng.IntN(len(m.Parts))]
		was := p
		switch rng.IntN(4) {
		case 0:
			p.Span.Count = uint64(size / m.Sector)
		case 1:
			p.Number = 1 + rng.IntN(6)
		case 2:
			p.Type, p.Attributes = typ, fresh.Attributes
		case 3:
			p.Name, p.UUID = fresh.Name, fresh.UUID
			if m.Scheme == table.MBR {
				p.Span.Start += uint64(step / m.Sector)
				p.Name, p.UUID = "", was.UUID
			}
		}
		_ = e.Set(was.Number, p)
		return []extent.Span{was.Span, p.Span}
	}
	return nil
}

// TestEdits: random edits of both schemes and both sectors, from tables that Fundus made
// and from odd ones that Linux takes all the same. After each, what is on the disk is
// what the editor says, whole, and every other entry keeps its bytes; at each phase
// Linux sees the table before or after; and the phases taken back, newest first, give
// every byte again.
func TestEdits(t *testing.T) {
	sequences := amount.Of(400, 2000)
	done, odd := map[table.Scheme]int{}, map[table.Scheme]int{}
	for n := range sequences {
		rng, scheme := amount.Rand(n), []table.Scheme{table.GPT, table.MBR}[n%2]
		geo := block.DefaultGeometry
		if n%4 > 1 {
			geo = block.Geometry{Logical: 4096, Physical: 4096}
		}
		bottom := block.NewMemory(int64(24+rng.IntN(60))<<20, geo)
		code := bytes.Repeat([]byte{0xEB, byte(n), 0x90, 0xF4}, 110)
		if _, err := bottom.WriteAt(append(code, make([]byte, int(geo.Logical)-len(code))...), 0); err != nil {
			t.Fatal(err)
		}
		first, err := New(bottom, Wanted{Scheme: scheme, Step: step, ID: uuid.UUID{1, byte(n), byte(n >> 8)}})
		if err == nil {
			_, err = first.Write(bottom)
		}
		if err != nil {
			t.Fatal(n, err)
		}
		counted := done
		if n%8 >= 4 {
			oddly(t, rng, bottom, scheme)
			counted, code = odd, nil
		}
		dev := bottom
		for range rng.IntN(30) + 1 {
			dev = block.NewOverlay(dev, block.Spill{}) // with this edit's phases alone
			if edited(t, rng, dev, n) {
				counted[scheme]++
				takeBack(t, dev)
			}
			if t.Failed() {
				return
			}
		}
		now := make([]byte, len(code))
		if _, err := dev.ReadAt(now, 0); err != nil || !bytes.Equal(now, code) {
			t.Fatalf("sequence %d: the boot code is not what it was", n)
		}
	}
	for scheme, n := range done {
		if n < 2*sequences || odd[scheme] < sequences {
			t.Errorf("%s: only %d edits of tidy tables and %d of odd ones changed anything", scheme, n, odd[scheme])
		}
	}
	t.Logf("%d sequences from seed %d: %v edits of tidy tables, %v of odd ones", sequences, amount.Seed(), done, odd)
}

// faults counts what is wrong with the table on the disk, by the kind of fault.
func faults(dev block.Device, scheme table.Scheme) map[finding.ID]int {
	var bad []finding.Finding
	if scheme == table.GPT {
		if state, err := gpt.Read(dev); err == nil {
			bad = gpt.Check("sdb", state)
		}
	} else if m, err := mbr.Read(dev); err == nil && m != nil {
		bad = mbr.Check("sdb", m)
	}
	out := map[finding.ID]int{}
	for _, f := range bad {
		out[f.ID]++
	}
	return out
}

// edited does an edit and checks it; it reports whether anything changed.
func edited(t *testing.T, rng *rand.Rand, dev *block.Overlay, n int) bool {
	t.Helper()
	e, _, err := Open(dev)
	if err != nil {
		t.Fatal(n, err)
	}
	before, bytesBefore := e.Model(), entries(t, dev, e.Model())
	faultsBefore := faults(dev, before.Scheme)
	touched := edit(rng, e)
	after := e.Model()
	warning, err := e.Write(dev)
	if err != nil {
		t.Fatalf("sequence %d: %v: %+v becomes %+v", n, err, before.Parts, after.Parts)
	}
	_ = dev.Sync()
	again := believed(t, dev)
	if !sameParts(again, after) {
		t.Fatalf("sequence %d: on the disk %+v, edited %+v", n, again.Parts, after.Parts)
	}
	if len(faultsBefore) == 0 {
		if err := whole(dev, again); err != nil {
			t.Fatalf("sequence %d: %v: %+v", n, err, again.Parts)
		}
	}
	for id, count := range faults(dev, after.Scheme) {
		if count > faultsBefore[id] {
			t.Fatalf("sequence %d: %d of %s, %d before", n, count, id, faultsBefore[id])
		}
	}
	for span, b := range entries(t, dev, after) {
		if was, stayed := bytesBefore[span]; stayed && b != was && !slices.Contains(touched, span) {
			t.Fatalf("sequence %d: the entry of %v has other bytes: %x, before %x", n, span, b, was)
		}
	}
	for i := range dev.Phases() + 1 {
		seen := believed(t, view{dev, dev.After(i)})
		if !sameParts(seen, before) && !sameParts(seen, after) && (warning == "" || !between(before, seen, after)) {
			t.Fatalf("sequence %d: at phase %d of %d Linux sees %+v, neither %+v nor %+v", n, i, dev.Phases(), seen.Parts, before.Parts, after.Parts)
		}
	}
	return dev.Phases() > 0
}

// between reports whether of what Linux sees nothing is new but what the edit made, and
// nothing is missing but what it takes away: where the editor warns that several places
// change one after the other, that is all that a cut between them may do.
func between(before, seen, after *table.Table) bool {
	has := func(m *table.Table, p table.Partition) bool {
		return slices.ContainsFunc(m.Parts, func(o table.Partition) bool { return o.Span == p.Span && o.Type == p.Type })
	}
	for _, p := range seen.Parts {
		if !has(before, p) && !has(after, p) {
			return false
		}
	}
	return !slices.ContainsFunc(before.Parts, func(p table.Partition) bool { return has(after, p) && !has(seen, p) })
}

// takeBack writes what was there before each phase, newest first, onto a copy.
func takeBack(t *testing.T, dev *block.Overlay) {
	t.Helper()
	end := dev.Phases()
	back := block.NewOverlay(dev, block.Spill{})
	piece := func(from io.ReaderAt, x block.Extent) []byte {
		b := make([]byte, x.Len)
		if _, err := from.ReadAt(b, x.Off); err != nil {
			t.Fatal(err)
		}
		return b
	}
	for i := end; i > 0; i-- {
		for _, x := range dev.Phase(i - 1) {
			if _, err := back.WriteAt(piece(dev.After(i-1), x), x.Off); err != nil {
				t.Fatal(err)
			}
		}
	}
	for i := range end {
		for _, x := range dev.Phase(i) {
			if !bytes.Equal(piece(back, x), piece(dev.After(0), x)) {
				t.Fatalf("bytes %d to %d are not as they were before the edit", x.Off, x.Off+x.Len-1)
			}
		}
	}
}
