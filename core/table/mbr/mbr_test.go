package mbr

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"slices"
	"strings"
	"testing"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/finding"
	"fundus/core/table"
)

// sector0 is an MBR with one Linux partition; each case changes it.
func sector0(edit func(b []byte)) block.Device {
	b := make([]byte, 512)
	copy(b[440:], "\x0D\xF0\xAD\x0B")
	r := b[446:]
	r[4] = 0x83
	copy(r[8:], "\x00\x08\x00\x00\x00\x10\x00\x00")
	b[510], b[511] = 0x55, 0xAA
	edit(b)
	d := block.NewMemory(64<<20, block.DefaultGeometry)
	if _, err := d.WriteAt(b, 0); err != nil {
		panic(err)
	}
	return d
}

func TestRead(t *testing.T) {
	got, err := Read(sector0(func([]byte) {}))
	if err != nil || got == nil || len(got.Model().Parts) != 1 {
		t.Fatalf("Read = %+v, %v", got, err)
	}
	p := got.Model().Parts[0]
	if got.ID() != 0x0badf00d || p.Number != 1 || p.Span.Start != 2048 || p.Span.Count != 4096 || p.Type != "83" || p.UUID != "0badf00d-01" {
		t.Errorf("%x, %+v", got.ID(), p)
	}
}

// TestWhatIsNoTable: a boot sector of a file system, a protective record, and a
// sector without partitions or signature are not taken for one.
func TestWhatIsNoTable(t *testing.T) {
	empty := func(b []byte) { clear(b[446:510]) }
	for name, edit := range map[string]func(b []byte){
		"no magic":              func(b []byte) { b[510] = 0 },
		"a boot flag of 0x41":   func(b []byte) { b[446+16] = 0x41 },
		"a record that is 0xEE": func(b []byte) { b[446+4] = typeGPT },
		"nothing at all":        func(b []byte) { empty(b); clear(b[440:444]) },
		"FAT":                   func(b []byte) { empty(b); b[12], b[13] = 2, 1 },
		"exFAT":                 func(b []byte) { empty(b); copy(b[3:], "EXFAT   ") },
	} {
		if got, err := Read(sector0(edit)); got != nil || err != nil {
			t.Errorf("%s: %+v, %v", name, got, err)
		}
	}
	if got, err := Read(sector0(empty)); got == nil || len(got.Model().Parts) != 0 || err != nil {
		t.Errorf("a table without partitions: %+v, %v", got, err)
	}
}

// chained has an extended partition from sector 10000 to 59999 with the chain
// sectors at the places, each with a partition of 1000 sectors 100 behind it.
func chained(places ...uint64) block.Device {
	d := sector0(func(b []byte) {
		r := b[446+16:]
		r[4] = 0x0F
		binary.LittleEndian.PutUint32(r[8:], 10000)
		binary.LittleEndian.PutUint32(r[12:], 50000)
	})
	for i, at := range places {
		b := make([]byte, 512)
		b[510], b[511] = 0x55, 0xAA
		b[446+4] = 0x83
		binary.LittleEndian.PutUint32(b[446+8:], 100)
		binary.LittleEndian.PutUint32(b[446+12:], 1000)
		if i+1 < len(places) {
			b[446+16+4] = 0x05
			binary.LittleEndian.PutUint32(b[446+16+8:], uint32(places[i+1]-10000))
			binary.LittleEndian.PutUint32(b[446+16+12:], 1100)
		}
		if int64(at)*512 < d.Size() && !slices.Contains(places[:i], at) {
			if _, err := d.WriteAt(b, int64(at)*512); err != nil {
				panic(err)
			}
		}
	}
	return d
}

// TestChains: numbers follow the chain, wherever it leads; one that is broken says
// where, and is not changed.
func TestChains(t *testing.T) {
	for _, c := range []struct {
		name   string
		places []uint64
		starts []uint64
		says   string
	}{
		{"in order", []uint64{10000, 20000, 30000}, []uint64{10100, 20100, 30100}, ""},
		{"out of order", []uint64{10000, 30000, 20000}, []uint64{10100, 30100, 20100}, ""},
		{"a loop", []uint64{10000, 20000, 10000}, []uint64{10100, 20100}, "comes back to sector 10000"},
		{"out of the extended one", []uint64{10000, 70000}, []uint64{10100}, "sector 70000, outside"},
		{"past the disk", []uint64{10000, 140000}, []uint64{10100}, "the disk has 131072"},
		{"nothing there", []uint64{10000, 20000}, []uint64{10100}, "sector 20000 has no signature"},
	} {
		dev := chained(c.places...)
		if c.name == "nothing there" {
			_ = dev.WriteZeroes(20000*512, 512)
		}
		got, err := Read(dev)
		if err != nil || got == nil {
			t.Fatal(c.name, err)
		}
		var starts []uint64
		for _, p := range got.logicals() {
			if p.Number != firstLogical+len(starts) {
				t.Errorf("%s: partition %d behind %d others", c.name, p.Number, len(starts))
			}
			starts = append(starts, p.Span.Start)
		}
		bad := Check("sdb", got)
		if len(starts) != len(c.starts) || len(bad) > 0 != (c.says != "") || c.says != "" && (bad[0].ID != TableChain.ID || !strings.Contains(bad[0].Text, c.says)) {
			t.Errorf("%s: partitions at %v, want %v; %+v", c.name, starts, c.starts, bad)
		}
		if err := got.Clone().Remove(5); errors.Is(err, ErrChain) != (c.says != "") {
			t.Errorf("%s: an edit: %v", c.name, err)
		}
	}
}

// TestCheck: what lies where it must not is found.
func TestCheck(t *testing.T) {
	put := func(dev block.Device, slot int, kind byte, first, count uint32) {
		b := make([]byte, 512)
		_, _ = dev.ReadAt(b, 0)
		r := b[446+16*slot:]
		r[4] = kind
		binary.LittleEndian.PutUint32(r[8:], first)
		binary.LittleEndian.PutUint32(r[12:], count)
		_, _ = dev.WriteAt(b, 0)
	}
	for want, plant := range map[finding.Entry]func(dev block.Device){
		table.Overlap: func(dev block.Device) { put(dev, 2, 0x83, 3000, 100) },
		table.Beyond:  func(dev block.Device) { put(dev, 2, 0x83, 131000, 100) },
		TableChain:    func(dev block.Device) { put(dev, 2, 0x05, 70000, 10000) },
		TableLogical: func(dev block.Device) {
			b := make([]byte, 512)
			_, _ = dev.ReadAt(b, 10000*512)
			binary.LittleEndian.PutUint32(b[446+8:], 60000)
			_, _ = dev.WriteAt(b, 10000*512)
		},
	} {
		dev := chained(10000)
		if got, _ := Read(dev); len(Check("sdb", got)) != 0 {
			t.Fatalf("%s before: %v", want.ID, Check("sdb", got))
		}
		plant(dev)
		got, _ := Read(dev)
		if bad := Check("sdb", got); len(bad) == 0 || bad[0].ID != want.ID {
			t.Errorf("%s: found %+v", want.ID, bad)
		}
	}
}

// TestSeveralGo: partitions that lie apart in the chain go in one step: at each phase
// Linux sees all of them or none gone. Without room for that there is a warning.
func TestSeveralGo(t *testing.T) {
	list := func(dev block.Device) (starts []uint64) {
		got, err := Read(dev)
		if err != nil || got == nil || got.broken != nil {
			t.Fatal(err, got)
		}
		for _, p := range got.logicals() {
			starts = append(starts, p.Span.Start)
		}
		return starts
	}
	for _, c := range []struct {
		gone []int // from the highest on
		left []uint64
	}{{[]int{8, 6}, []uint64{10100, 30100, 50100}}, {[]int{9, 7, 5}, []uint64{20100, 40100}}, {[]int{7, 6}, []uint64{10100, 40100, 50100}}} {
		dev := chained(10000, 20000, 30000, 40000, 50000).(*block.Overlay)
		_ = dev.Sync()
		before, from := list(dev), dev.Phases()
		edit, err := Read(dev)
		if err != nil {
			t.Fatal(err)
		}
		for _, n := range c.gone {
			if err := edit.Remove(n); err != nil {
				t.Fatal(err)
			}
		}
		if warning, err := edit.Write(dev); err != nil || warning != "" {
			t.Fatalf("%v: %q, %v", c.gone, warning, err)
		}
		for i := from; i <= dev.Phases(); i++ {
			if got := list(past{dev, dev.After(i)}); !slices.Equal(got, before) && !slices.Equal(got, c.left) {
				t.Errorf("%v: at phase %d Linux sees %v, neither %v nor %v", c.gone, i, got, before, c.left)
			}
		}
		if got, _ := Read(dev); !slices.Equal(list(dev), c.left) || len(Check("sdb", got)) > 0 {
			t.Errorf("%v: left %v: %v", c.gone, list(dev), Check("sdb", got))
		}
	}
	dev := chained(10000, 20000, 30000)
	edit, _ := Read(dev)
	for _, n := range []int{6, 1} {
		if err := edit.Remove(n); err != nil {
			t.Fatal(err)
		}
	}
	if warning, err := edit.Write(dev); err != nil || !strings.Contains(warning, "sector 0 and the chain") {
		t.Errorf("a primary and a logical one: %q, %v", warning, err)
	}
}

// past is a disk as it was.
type past struct {
	block.Device
	at io.ReaderAt
}

func (p past) ReadAt(b []byte, off int64) (int, error) { return p.at.ReadAt(b, off) }

// TestRefused: what an MBR cannot hold is refused, and the table stays as it is.
func TestRefused(t *testing.T) {
	span := func(start, count uint64) extent.Span { return extent.Span{Start: start, Count: count} }
	for name, c := range map[string]struct {
		p    table.Partition
		want error
	}{
		"a second extended one":        {table.Partition{Type: "05", Span: span(70000, 100)}, table.ErrValue},
		"an extended one inside":       {table.Partition{Type: "0f", Span: span(40000, 100)}, table.ErrValue},
		"across the border":            {table.Partition{Type: "83", Span: span(59000, 2000)}, extent.ErrOverlap},
		"over another":                 {table.Partition{Type: "83", Span: span(3000, 10)}, extent.ErrOverlap},
		"over the chain":               {table.Partition{Type: "83", Span: span(19990, 20)}, table.ErrPlace},
		"no room for a chain sector":   {table.Partition{Type: "83", Span: span(21100, 10)}, table.ErrPlace},
		"a number of the others":       {table.Partition{Number: 3, Type: "83", Span: span(40000, 10)}, table.ErrValue},
		"a number that is taken":       {table.Partition{Number: 1, Type: "83", Span: span(70000, 10)}, table.ErrTaken},
		"a logical number outside":     {table.Partition{Number: 7, Type: "83", Span: span(70000, 10)}, table.ErrPlace},
		"no sectors":                   {table.Partition{Type: "83", Span: span(70000, 0)}, table.ErrPlace},
		"past the end":                 {table.Partition{Type: "83", Span: span(131000, 100)}, table.ErrPlace},
		"over the table":               {table.Partition{Type: "83", Span: span(0, 100)}, table.ErrPlace},
		"a name":                       {table.Partition{Type: "83", Name: "scans", Span: span(70000, 10)}, table.ErrName},
		"a type of the other scheme":   {table.Partition{Type: "0fc63daf-8483-4772-8e79-3d69d8477de4", Span: span(70000, 10)}, table.ErrValue},
		"the type of a GPT":            {table.Partition{Type: "ee", Span: span(70000, 10)}, table.ErrValue},
		"a boot flag on a logical one": {table.Partition{Type: "83", Span: span(40000, 10), Attributes: 0x80}, table.ErrValue},
	} {
		got, err := Read(chained(10000, 20000))
		if err != nil {
			t.Fatal(err)
		}
		before := got.Clone()
		if err := got.Add(c.p); !errors.Is(err, c.want) {
			t.Errorf("%s: %v, want %v", name, err, c.want)
		}
		if !bytes.Equal(got.first, before.first) || len(got.chain) != 2 || !bytes.Equal(got.chain[1].raw, before.chain[1].raw) {
			t.Errorf("%s: the table is changed", name)
		}
	}
}

// FuzzRead: no sectors make the reader fail otherwise than with an error, and what
// it takes for a table that can be changed can be.
func FuzzRead(f *testing.F) {
	first, chain := make([]byte, 512), make([]byte, 512)
	dev := chained(10000, 20000)
	_, _ = dev.ReadAt(first, 0)
	_, _ = dev.ReadAt(chain, 10000*512)
	f.Add(first, chain)
	f.Fuzz(func(t *testing.T, a, b []byte) {
		dev := block.NewMemory(8<<20, block.DefaultGeometry)
		_, _ = dev.WriteAt(append(a, make([]byte, 512)...)[:512], 0)
		for at := int64(1); at < 64; at++ { // wherever the chain begins
			_, _ = dev.WriteAt(append(b, make([]byte, 512)...)[:512], at*512)
		}
		got, err := Read(dev)
		if err != nil || got == nil {
			return
		}
		m := got.Model()
		Check("sdb", got)
		for _, p := range m.Parts {
			edit := got.Clone()
			if edit.Remove(p.Number) == nil && len(edit.Model().Parts) != len(m.Parts)-1 {
				t.Errorf("without partition %d: %d are left of %d", p.Number, len(edit.Model().Parts), len(m.Parts))
			}
		}
	})
}
