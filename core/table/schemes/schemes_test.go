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
		default: // its sector of the chain is the one that leads there; a head may be empty
			for ; read(int64(m.Chain[chain].Start)*sector+446+4, 1) == "\x00"; chain++ {
			}
			out[p.Span] = read(int64(m.Chain[chain].Start)*sector+446, 16)
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
		for range 1 + rng.IntN(3) { // several in one go
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

// TestEdits: random edits of both schemes and both sectors. After each, what is on
// the disk is what the editor says, whole, and every other entry keeps its bytes;
// at each phase Linux sees the table before or after; and the phases taken back,
// newest first, give every byte again.
func TestEdits(t *testing.T) {
	sequences := 2000
	if testing.Short() {
		sequences = 200
	}
	done := map[table.Scheme]int{}
	for seed := range sequences {
		rng := rand.New(rand.NewPCG(uint64(seed), 17))
		scheme := []table.Scheme{table.GPT, table.MBR}[seed%2]
		geo := block.DefaultGeometry
		if seed%4 > 1 {
			geo = block.Geometry{Logical: 4096, Physical: 4096}
		}
		dev := block.NewMemory(int64(24+rng.IntN(60))<<20, geo)
		code := bytes.Repeat([]byte{0xEB, byte(seed), 0x90, 0xF4}, 110)
		if _, err := dev.WriteAt(append(code, make([]byte, int(geo.Logical)-len(code))...), 0); err != nil {
			t.Fatal(err)
		}
		first, err := New(dev, Wanted{Scheme: scheme, Step: step, ID: uuid.UUID{1, byte(seed), byte(seed >> 8)}})
		if err == nil {
			_, err = first.Write(dev)
		}
		if err != nil {
			t.Fatal(seed, err)
		}
		start := dev.Phases()
		for range rng.IntN(30) + 1 {
			if edited(t, rng, dev, seed) {
				done[scheme]++
			}
			if t.Failed() {
				return
			}
		}
		takeBack(t, dev, start)
		now := make([]byte, len(code))
		if _, err := dev.ReadAt(now, 0); err != nil || !bytes.Equal(now, code) {
			t.Fatalf("sequence %d: the boot code is not what it was", seed)
		}
	}
	for scheme, n := range done {
		if n < 3*sequences {
			t.Errorf("%s: only %d edits changed anything", scheme, n)
		}
	}
	t.Logf("%d sequences: %v edits", sequences, done)
}

// edited does an edit and checks it; it reports whether anything changed.
func edited(t *testing.T, rng *rand.Rand, dev *block.Overlay, seed int) bool {
	t.Helper()
	e, _, err := Open(dev)
	if err != nil {
		t.Fatal(seed, err)
	}
	before, bytesBefore, from := e.Model(), entries(t, dev, e.Model()), dev.Phases()
	touched := edit(rng, e)
	after := e.Model()
	warning, err := e.Write(dev)
	if err != nil {
		t.Fatal(seed, err)
	}
	_ = dev.Sync()
	again := believed(t, dev)
	if !sameParts(again, after) {
		t.Fatalf("sequence %d: on the disk %+v, edited %+v", seed, again.Parts, after.Parts)
	}
	if err := whole(dev, again); err != nil {
		t.Fatalf("sequence %d: %v: %+v", seed, err, again.Parts)
	}
	for span, b := range entries(t, dev, after) {
		if was, stayed := bytesBefore[span]; stayed && b != was && !slices.Contains(touched, span) {
			t.Fatalf("sequence %d: the entry of %v has other bytes: %x, before %x", seed, span, b, was)
		}
	}
	for i := from; i <= dev.Phases(); i++ {
		seen := believed(t, view{dev, dev.After(i)})
		if !sameParts(seen, before) && !sameParts(seen, after) && (warning == "" || !both(before, after)) {
			t.Fatalf("sequence %d: at phase %d of %d-%d Linux sees %+v, neither %+v nor %+v", seed, i, from, dev.Phases(), seen.Parts, before.Parts, after.Parts)
		}
	}
	return dev.Phases() > from
}

// both reports whether primary and logical partitions differ: that is no single step,
// and the editor has to warn of it.
func both(before, after *table.Table) bool {
	role := func(m *table.Table, logical bool) (list []table.Partition) {
		for _, p := range m.Parts {
			if (p.Role == table.Logical) == logical {
				list = append(list, p)
			}
		}
		return list
	}
	return !slices.Equal(role(before, true), role(after, true)) && !slices.Equal(role(before, false), role(after, false))
}

// takeBack writes what was there before each phase, newest first.
func takeBack(t *testing.T, dev *block.Overlay, start int) {
	t.Helper()
	end := dev.Phases()
	piece := func(from io.ReaderAt, x block.Extent) []byte {
		b := make([]byte, x.Len)
		if _, err := from.ReadAt(b, x.Off); err != nil {
			t.Fatal(err)
		}
		return b
	}
	for i := end; i > start; i-- {
		for _, x := range dev.Phase(i - 1) {
			if _, err := dev.WriteAt(piece(dev.After(i-1), x), x.Off); err != nil {
				t.Fatal(err)
			}
		}
	}
	for i := start; i < end; i++ {
		for _, x := range dev.Phase(i) {
			if !bytes.Equal(piece(dev, x), piece(dev.After(start), x)) {
				t.Fatalf("bytes %d to %d are not as they were before the edits", x.Off, x.Off+x.Len-1)
			}
		}
	}
}
