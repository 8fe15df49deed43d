package schemes

import (
	"encoding/binary"
	"hash/crc32"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/table"
	"fundus/core/table/gpt"
)

// Tables that Fundus would not have made, and that Linux takes: written byte by byte.

const sectorSize = 512

func write(t testing.TB, dev block.Device, at uint64, b []byte) {
	t.Helper()
	if err := block.WriteBytes(dev, b, int64(at)*dev.Geometry().Logical); err != nil {
		t.Fatal(err)
	}
}

func record(kind, boot byte, first, count uint32) []byte {
	b := []byte{boot, 0xFE, 0xFF, 0xFF, kind, 0xFE, 0xFF, 0xFF}
	return binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint32(b, first), count)
}

func mbrSector(size int64, id uint32, records ...[]byte) []byte {
	b := make([]byte, size)
	binary.LittleEndian.PutUint32(b[440:], id)
	for i, r := range records {
		copy(b[446+16*i:], r)
	}
	b[510], b[511] = 0x55, 0xAA
	return b
}

// place is a sector of a chain: where it lies, and what it holds; no sectors: nothing.
type place struct {
	at, data, count uint32
	stale           byte // type in the records that are not used
}

// chained writes an MBR whose extended partition has the chain, in that order.
func chained(t testing.TB, dev block.Device, outer, length uint32, chain []place) {
	t.Helper()
	size := dev.Geometry().Logical
	write(t, dev, 0, mbrSector(size, 0x11223344, record(0x83, 0x80, 64, 200), record(0x05, 0, outer, length), record(0x17, 0, 0, 0)))
	for i, l := range chain {
		data, link := record(l.stale, 0, 0, 0), record(l.stale, 0, 0, 0)
		if l.count > 0 {
			data = record(0x83, 0, l.data-l.at, l.count)
		}
		if i+1 < len(chain) {
			link = record(0x05, 0, chain[i+1].at-outer, 1+chain[i+1].count)
		}
		write(t, dev, uint64(l.at), mbrSector(size, 0, data, link, record(l.stale, 0, 77, 0)))
	}
}

// randomChain is packed or loose, with sectors that hold nothing, in any order.
func randomChain(rng *rand.Rand, outer, length uint32) []place {
	stale := []byte{0, 0, 0x83, 0x17}[rng.IntN(4)]
	at, packed := outer, rng.IntN(2) == 0
	var chain []place
	for total := 2 + rng.IntN(10); len(chain) < total; {
		gap, count := uint32(0), uint32(1+rng.IntN(40))
		if !packed {
			gap = uint32(rng.IntN(30))
		}
		l := place{at, at + 1 + gap, count, stale}
		if rng.IntN(5) == 0 {
			l.count, l.data = 0, l.at+1
		}
		if l.data+l.count+40 > outer+length {
			break
		}
		chain = append(chain, l)
		at = l.data + l.count + gap
		if rng.IntN(4) == 0 {
			at++ // one free sector
		}
	}
	rest := chain[min(1, len(chain)):]
	if rng.IntN(2) == 0 {
		rng.Shuffle(len(rest), func(i, j int) { rest[i], rest[j] = rest[j], rest[i] })
	}
	return chain
}

// remade gives both copies of a GPT other bytes, with checksums that fit.
func remade(t testing.TB, dev block.Device, change func(header, array []byte)) {
	t.Helper()
	size := dev.Geometry().Logical
	last := uint64(dev.Size()/size) - 1
	for _, lba := range []uint64{1, last} {
		header := make([]byte, size)
		read := func(b []byte, at uint64) {
			if _, err := dev.ReadAt(b, int64(at)*size); err != nil {
				t.Fatal(err)
			}
		}
		read(header, lba)
		le := binary.LittleEndian
		at := le.Uint64(header[72:])
		array := make([]byte, le.Uint32(header[80:])*le.Uint32(header[84:]))
		read(array, at)
		change(header, array)
		le.PutUint32(header[88:], crc32.ChecksumIEEE(array))
		clear(header[16:20])
		le.PutUint32(header[16:], crc32.ChecksumIEEE(header[:le.Uint32(header[12:])]))
		write(t, dev, lba, header)
		write(t, dev, at, array)
	}
}

// entry overwrites one entry of an array.
func entry(array []byte, n int, first, last uint64) {
	e := array[128*(n-1):][:128]
	copy(e, "\xAF\x3D\xC6\x0F\x83\x84\x72\x47\x8E\x79\x3D\x69\xD8\x47\x7D\xE4")
	e[16], e[17] = byte(n), 0x77
	binary.LittleEndian.PutUint64(e[32:], first)
	binary.LittleEndian.PutUint64(e[40:], last)
}

// oddly makes the table on the disk an odd one of its scheme.
func oddly(t testing.TB, rng *rand.Rand, dev block.Device, s table.Scheme) {
	t.Helper()
	sectors := uint32(dev.Size() / dev.Geometry().Logical)
	if s == table.MBR {
		outer := 300 + uint32(rng.IntN(40))
		length := min(sectors-outer, 200+uint32(rng.IntN(400)))
		if rng.IntN(2) == 0 {
			length = sectors - outer
		}
		chained(t, dev, outer, length, randomChain(rng, outer, length))
		return
	}
	junk, flags := rng.IntN(3), rng.Uint64()
	remade(t, dev, func(header, array []byte) {
		for n := range junk {
			entry(array, 20+n, uint64(2048+n*3000), uint64(2047-n*50))
		}
		if rng.IntN(2) == 0 { // what nobody knows is kept
			entry(array, 9, uint64(sectors)/2, uint64(sectors)/2+255)
			binary.LittleEndian.PutUint64(array[8*128+48:], flags)
			copy(array[8*128+56:], "s\x00c\x00a\x00n\x00s\x00\x00\x00x\x00y\x00")
		}
	})
	if rng.IntN(3) == 0 {
		remade(t, dev, func(header, _ []byte) { binary.LittleEndian.PutUint64(header[40:], 3) })
	}
}

func openOn(t testing.TB, dev block.Device) table.Editor {
	t.Helper()
	e, _, err := Open(dev)
	if err != nil {
		t.Fatal(err)
	}
	return e
}

func disk() *block.Overlay { return block.NewMemory(8<<20, block.DefaultGeometry) }

func spansOf(m *table.Table) string {
	var words []string
	for _, p := range m.Parts {
		words = append(words, p.Span.String())
	}
	return strings.Join(words, " ")
}

// TestRemovalsFromAPackedChain: where the sectors of the chain cannot all be moved, none
// is; and a sector in its middle that holds nothing keeps nothing from being removed.
func TestRemovalsFromAPackedChain(t *testing.T) {
	packed := []place{{2048, 2049, 9, 0}, {2058, 2060, 9, 0}, {2069, 2070, 9, 0}, {2079, 2080, 9, 0}, {2089, 2090, 9, 0}, {2099, 2100, 9, 0}}
	hollow := []place{{2048, 2049, 9, 0}, {2058, 2060, 9, 0}, {2069, 2069, 0, 0}, {2079, 2081, 9, 0}, {2090, 2092, 9, 0}, {2101, 2103, 9, 0}, {2112, 2114, 9, 0}}
	for name, chain := range map[string][]place{"one free sector": packed, "a sector that holds nothing": hollow} {
		dev := disk()
		chained(t, dev, 2048, 4096, chain)
		e := openOn(t, dev)
		for _, n := range []int{9, 7, 5} {
			if err := e.Remove(n); err != nil {
				t.Fatal(err)
			}
		}
		want := spansOf(e.Model())
		if _, err := e.Write(dev); err != nil {
			t.Fatal(err)
		}
		if got := spansOf(believed(t, dev)); got != want {
			t.Errorf("%s: Linux sees %s, wanted %s", name, got, want)
		}
	}
}

// TestAnUnusedRecordLeadsNowhere: a link of the chain that is not used may have kept any
// type; the next partition is linked by one that leads on.
func TestAnUnusedRecordLeadsNowhere(t *testing.T) {
	for _, chain := range [][]place{{{2048, 2049, 9, 0x83}}, {{2048, 2049, 9, 0x83}, {2058, 2059, 9, 0x83}}} {
		dev := disk()
		chained(t, dev, 2048, 8192, chain)
		e := openOn(t, dev)
		p := table.Partition{Type: "83"}
		p.Span.Start, p.Span.Count = 6144, 2048
		if err := e.Add(p); err != nil {
			t.Fatal(err)
		}
		if _, err := e.Write(dev); err != nil {
			t.Fatal(err)
		}
		if got := believed(t, dev); !strings.HasSuffix(spansOf(got), " 6144-8191") {
			t.Errorf("Linux sees %s", spansOf(got))
		}
	}
}

func oddGPT(t testing.TB) *block.Overlay {
	t.Helper()
	dev := disk()
	e, err := New(dev, Wanted{Scheme: table.GPT, Step: step, ID: uuid.UUID{5, 0x5e, 0xed}})
	if err == nil {
		_, err = e.Write(dev)
	}
	if err != nil {
		t.Fatal(err)
	}
	return dev
}

// TestNonsenseEntriesStay: entries that end before they begin keep no other edit from
// being done, keep their bytes, and go one by one.
func TestNonsenseEntriesStay(t *testing.T) {
	dev := oddGPT(t)
	remade(t, dev, func(_, array []byte) { entry(array, 1, 2048, 2047); entry(array, 2, 5000, 4000) })
	e := openOn(t, dev)
	p := table.Partition{Type: "0fc63daf-8483-4772-8e79-3d69d8477de4", UUID: "5eed5eed-0000-4000-8000-000000000001"}
	p.Span.Start, p.Span.Count = 4096, 2048
	if err := e.Add(p); err != nil {
		t.Fatal(err)
	}
	if _, err := e.Write(dev); err != nil {
		t.Fatal(err)
	}
	e = openOn(t, dev)
	if got, want := spansOf(e.Model()), "2048+0 5000+0 4096-6143"; got != want {
		t.Errorf("the table has %s, wanted %s", got, want)
	}
	if err := e.Remove(2); err != nil {
		t.Fatal(err)
	}
	if _, err := e.Write(dev); err != nil {
		t.Errorf("removing one of them: %v", err)
	}
	bad := e.Model().Parts[0]
	bad.Name = "mosses" // an entry that is touched must make sense
	if err := e.Set(1, bad); err == nil || !strings.Contains(err.Error(), "no sectors") {
		t.Errorf("Set = %v", err)
	}
}

// TestProtectiveRecord: one that does not begin with sector 1 makes Linux see nothing;
// it is found, and put right where it stands.
func TestProtectiveRecord(t *testing.T) {
	dev := oddGPT(t)
	other := record(0x0C, 0, 2048, 100)
	write(t, dev, 0, mbrSector(sectorSize, 0, other, record(0xEE, 0, 2, 16383)))
	state, err := gpt.Read(dev)
	if err != nil || state.Believed() != nil || len(gpt.Check("sdb", state)) == 0 {
		t.Fatalf("believed %v, findings %v, %v", state.Believed() != nil, gpt.Check("sdb", state), err)
	}
	if _, err := gpt.Write(dev, state, state.Good()); err != nil {
		t.Fatal(err)
	}
	if state, err = gpt.Read(dev); err != nil || state.Believed() == nil || state.Protective != gpt.HybridMBR {
		t.Errorf("after it: %q, %v", state.Protective, err)
	}
}

// TestAnEmptyMBRBeforeAnOldGPT is an empty MBR, as Linux has it.
func TestAnEmptyMBRBeforeAnOldGPT(t *testing.T) {
	dev := oddGPT(t)
	write(t, dev, 0, mbrSector(sectorSize, 0x11223344, record(0x83, 0, 2048, 100)))
	e := openOn(t, dev)
	if err := e.Remove(1); err != nil {
		t.Fatal(err)
	}
	if _, err := e.Write(dev); err != nil {
		t.Fatal(err)
	}
	if m := openOn(t, dev).Model(); m.Scheme != table.MBR || len(m.Parts) != 0 {
		t.Errorf("%s with %d partitions", m.Scheme, len(m.Parts))
	}
	state, err := gpt.Read(dev)
	if err != nil || len(gpt.CheckDead("sdb", state)) != 1 {
		t.Errorf("the GPT behind it: %+v, %v", gpt.CheckDead("sdb", state), err)
	}
}

// TestAHeaderThatCallsTheArrayUsable is a fault that is said; an edit goes by what is
// usable in truth, and a table that is as it is to be already is not written.
func TestAHeaderThatCallsTheArrayUsable(t *testing.T) {
	dev := oddGPT(t)
	remade(t, dev, func(header, _ []byte) { binary.LittleEndian.PutUint64(header[40:], 3) })
	if got := faults(dev, table.GPT); got[gpt.TableArray.ID] != 1 {
		t.Errorf("faults: %v", got)
	}
	e := openOn(t, dev)
	if got := e.Model().Usable.Start; got != 34 {
		t.Errorf("usable from sector %d", got)
	}
	if _, err := e.Write(dev); err != nil {
		t.Fatal(err)
	}
	if got := faults(dev, table.GPT); len(got) != 0 {
		t.Errorf("afterwards: %v", got)
	}
	_ = dev.Sync()
	phases := dev.Phases()
	if _, err := openOn(t, dev).Write(dev); err != nil {
		t.Fatal(err)
	}
	if _ = dev.Sync(); dev.Phases() != phases {
		t.Errorf("%d phases for nothing", dev.Phases()-phases)
	}
}
