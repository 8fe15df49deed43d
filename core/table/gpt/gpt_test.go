package gpt

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/extent"
	"fundus/core/finding"
	"fundus/core/quantity"
	model "fundus/core/table"
)

const mib = 1 << 20

func geometry(sector int64) block.Geometry { return block.Geometry{Logical: sector, Physical: 4096} }

func guidOf(n byte) uuid.UUID { return uuid.UUID{0: n, 6: 0x40, 8: 0x80, 15: n} }

// disk is a disk in memory with a table of the given partitions, each of so
// many MiB.
func disk(t testing.TB, size, sector int64, parts ...int) (*block.Overlay, *Table) {
	t.Helper()
	dev := block.NewMemory(size, geometry(sector))
	table, err := New(quantity.Bytes(size), quantity.Bytes(sector), mib, guidOf(9))
	if err != nil {
		t.Fatal(err)
	}
	for i, n := range parts {
		add(t, table, i+1, sector, n)
	}
	if _, err := Write(dev, nil, table); err != nil {
		t.Fatal(err)
	}
	return dev, table
}

func add(t testing.TB, table *Table, number int, sector int64, size int) {
	t.Helper()
	span, err := table.Model(quantity.Bytes(sector)).Place(quantity.Bytes(size)*mib, mib)
	if err != nil {
		t.Fatal(err)
	}
	e := Entry{Type: guidOf(1), Unique: guidOf(byte(100 + number)), First: span.Start, Last: span.End() - 1}
	if err := e.SetName(fmt.Sprintf("scans %d ✿", number)); err != nil {
		t.Fatal(err)
	}
	if err := table.Add(number, e); err != nil {
		t.Fatal(err)
	}
}

func believed(t testing.TB, dev block.Device) *Table {
	t.Helper()
	s, err := Read(dev)
	if errors.Is(err, ErrNone) {
		return nil
	}
	if err != nil {
		t.Fatal(err)
	}
	return s.Believed()
}

// TestWhatIsWrittenIsRead: at both sector sizes and at sizes around 2 TiB, both
// copies are read back as they were written and nothing is found wrong.
func TestWhatIsWrittenIsRead(t *testing.T) {
	for _, sector := range []int64{512, 4096} {
		for _, size := range []int64{8 * mib, 1<<41 - sector, 1 << 41, 1<<41 + sector, 1 << 46} {
			dev, want := disk(t, size, sector, 2, 3)
			s, err := Read(dev)
			if err != nil || s.Primary == nil || s.Backup == nil || !same(s.Primary, want) || !same(s.Backup, want) {
				t.Fatalf("size %d, sector %d: Read = %+v, %v", size, sector, s, err)
			}
			if found := Check("sdb", s); len(found) != 0 {
				t.Errorf("size %d, sector %d: Check = %v", size, sector, found)
			}
			if got := s.Primary.Entries[1].Name(); got != "scans 2 ✿" {
				t.Errorf("name = %q", got)
			}
		}
	}
}

// TestHeaderBytes holds the primary header against the specification's table.
func TestHeaderBytes(t *testing.T) {
	dev, _ := disk(t, 8*mib, 512)
	got, err := block.ReadSized(dev, 512, 92, 92)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		off  int
		hex  string
		what string
	}{
		{0, "4546492050415254", "signature"}, {8, "00000100", "revision 1.0"}, {12, "5c000000", "header size 92"},
		{20, "00000000", "reserved"}, {24, "0100000000000000", "own LBA 1"}, {32, "ff3f000000000000", "alternate LBA 16383"},
		{40, "2200000000000000", "first usable LBA 34"}, {48, "de3f000000000000", "last usable LBA 16350"},
		{56, "00000009000000408000000000000009", "disk GUID, first three fields little-endian"},
		{72, "0200000000000000", "array at LBA 2"}, {80, "80000000", "128 entries"}, {84, "80000000", "of 128 bytes"},
	} {
		if at := fmt.Sprintf("%x", got[c.off:c.off+len(c.hex)/2]); at != c.hex {
			t.Errorf("%s at %d: %s, want %s", c.what, c.off, at, c.hex)
		}
	}
}

// TestUnknownBytesAreKept: bytes that have no meaning yet survive an edit.
func TestUnknownBytesAreKept(t *testing.T) {
	dev, table := disk(t, 8*mib, 512, 1)
	table.Reserved, table.tail[7] = 0xBEEF, 0x77
	table.Entries[0].Attributes = 1<<63 | 1<<11
	table.Entries[0].name[30] = 0x4242 // behind the first zero unit
	if err := block.WriteBytes(dev, []byte("boot code"), 0); err != nil {
		t.Fatal(err)
	}
	old, _ := Read(dev)
	if _, err := Write(dev, old, table); err != nil {
		t.Fatal(err)
	}
	edited := believed(t, dev).Clone()
	add(t, edited, 5, 512, 1)
	old, _ = Read(dev)
	if _, err := Write(dev, old, edited); err != nil {
		t.Fatal(err)
	}
	got := believed(t, dev)
	if got.Reserved != 0xBEEF || got.tail[7] != 0x77 || got.Entries[0].Attributes != 1<<63|1<<11 || got.Entries[0].name[30] != 0x4242 {
		t.Errorf("lost: %x %x %x %x", got.Reserved, got.tail[7], got.Entries[0].Attributes, got.Entries[0].name[30])
	}
	if now, _ := Read(dev); !bytes.HasPrefix(now.MBR, []byte("boot code")) {
		t.Error("the boot code was changed")
	}
}

// TestHybridRecordsStay: an edit leaves the other records of sector 0 alone.
func TestHybridRecordsStay(t *testing.T) {
	dev, table := disk(t, 8*mib, 512, 1)
	if err := block.WriteBytes(dev, []byte{0x0C}, mbrRecords+mbrRecordSize+mbrType); err != nil {
		t.Fatal(err)
	}
	before, _ := block.ReadSized(dev, 0, 512, 512)
	old, err := Read(dev)
	if err != nil || old.Protective != HybridMBR || old.Believed() == nil {
		t.Fatalf("Read = %+v, %v", old, err)
	}
	if _, err := Write(dev, old, table); err != nil {
		t.Fatal(err)
	}
	if after, _ := block.ReadSized(dev, 0, 512, 512); !bytes.Equal(before, after) {
		t.Error("sector 0 was changed")
	}
}

// TestCutLeavesOldOrNew cuts each way of writing a table before each of its
// writes and syncs, with unsynced sectors dropped and reordered, and asks what
// Linux would believe: the old table or the new one, never anything else.
func TestCutLeavesOldOrNew(t *testing.T) {
	cuts := 0
	for _, c := range []struct {
		name    string
		prepare func(dev block.Device) // of the old state
		want    Order
	}{
		{"edit", func(block.Device) {}, Switched},
		{"edit with a damaged primary", func(d block.Device) { damage(t, d, 512+40) }, FromBackup},
		{"edit with a damaged backup", func(d block.Device) { damage(t, d, d.Size()-512+40) }, Switched},
		{"on a blank disk", func(d block.Device) { blank(t, d) }, Fresh},
	} {
		for seed := range uint64(6) {
			for n := 0; ; n++ {
				base, table := disk(t, 8*mib, 512, 1, 1)
				c.prepare(base)
				edited := table.Clone()
				if err := edited.Remove(1); err != nil {
					t.Fatal(err)
				}
				add(t, edited, 7, 512, 2)
				before := believed(t, base)
				f := block.NewFaulty(base, block.Fault{FailAt: block.Never, CutAt: n, Seed: seed, ReadErrorAt: block.Never})
				old, _ := Read(f)
				order, err := Write(f, old, edited)
				after := believed(t, base)
				isOld := before == nil && after == nil || before != nil && after != nil && same(before, after)
				if isNew := after != nil && same(after, edited); !isOld && !isNew || err == nil && !isNew {
					t.Fatalf("%s: cut at %d, seed %d: Linux sees a third state", c.name, n, seed)
				}
				if err == nil {
					if order != c.want {
						t.Errorf("%s: order %s, want %s", c.name, order, c.want)
					}
					break
				}
				if !errors.Is(err, block.ErrPowerLost) {
					t.Fatalf("%s: %v", c.name, err)
				}
				cuts++
			}
		}
	}
	t.Logf("%d cuts: old or new each time", cuts)
}

func damage(t testing.TB, d block.Device, at int64) {
	t.Helper()
	b, err := block.ReadSized(d, at, 1, 1)
	if err == nil {
		err = block.WriteBytes(d, []byte{b[0] ^ 0xFF}, at)
	}
	if err != nil {
		t.Fatal(err)
	}
}

func blank(t testing.TB, d block.Device) {
	t.Helper()
	if err := d.WriteZeroes(0, d.Size()); err != nil {
		t.Fatal(err)
	}
}

// TestDamageIsNamed: each damage gives its class of error, and Check the
// finding; recomputed checksums make sure that the rule itself is tested.
func TestDamageIsNamed(t *testing.T) {
	put32 := func(at int, v uint32) func([]byte) {
		return func(h []byte) { binary.LittleEndian.PutUint32(h[at:], v) }
	}
	put64 := func(at int, v uint64) func([]byte) {
		return func(h []byte) { binary.LittleEndian.PutUint64(h[at:], v) }
	}
	for _, c := range []struct {
		name  string
		edit  func([]byte)
		reset bool // recompute the header's checksum
		want  error
	}{
		{"signature", func(h []byte) { h[0] = 'X' }, false, field.ErrMagic},
		{"one bit", func(h []byte) { h[60] ^= 1 }, false, field.ErrChecksum},
		{"header shorter than its fields", put32(headerSize, 91), false, field.ErrRange},
		{"header longer than the sector", put32(headerSize, 513), false, field.ErrRange},
		{"own LBA", put64(headerMyLBA, 2), true, field.ErrRange},
		{"usable end past the disk", put64(headerLastUsable, 16384), true, field.ErrRange},
		{"entry size 96", put32(headerEntrySize, 96), true, field.ErrRange},
		{"four billion entries", put32(headerEntries, 1<<32-1), true, field.ErrRange},
		{"entries times size beyond the limit", put32(headerEntries, maxArray/entryEnd+1), true, field.ErrRange},
		{"array past the disk", put64(headerArrayLBA, 1<<63), true, field.ErrRange},
		{"array checksum", put32(headerArrayCRC, 1), true, field.ErrChecksum},
	} {
		dev, _ := disk(t, 8*mib, 512, 1)
		h, _ := block.ReadSized(dev, 512, 512, 512)
		c.edit(h)
		if c.reset {
			binary.LittleEndian.PutUint32(h[headerCRC:], headerChecksum(h, 92))
		}
		if err := block.WriteBytes(dev, h, 512); err != nil {
			t.Fatal(err)
		}
		s, err := Read(dev)
		if err != nil || !errors.Is(s.PrimaryErr, c.want) || s.Believed() == nil {
			t.Errorf("%s: %v, want %v and the backup believed", c.name, s.PrimaryErr, c.want)
			continue
		}
		if found := Check("sdb", s); len(found) != 1 || found[0].ID != TablePrimary.ID {
			t.Errorf("%s: Check = %v", c.name, found)
		}
	}
}

func TestRefusals(t *testing.T) {
	if _, err := New(mib, 512, mib, guidOf(1)); !errors.Is(err, ErrTooSmall) {
		t.Errorf("New on 1 MiB = %v", err)
	}
	_, table := disk(t, 8*mib, 512, 2)
	taken := table.Entries[0]
	if err := table.Add(2, taken); !errors.Is(err, extent.ErrOverlap) {
		t.Errorf("overlapping = %v", err)
	}
	if err := table.Add(1, Entry{Type: guidOf(1), First: 10000, Last: 10001}); !errors.Is(err, model.ErrTaken) {
		t.Errorf("taken = %v", err)
	}
	if err := table.Add(3, Entry{Type: guidOf(1), First: 16000, Last: 1 << 40}); !errors.Is(err, field.ErrRange) {
		t.Errorf("beyond = %v", err)
	}
	if err := (&Entry{}).SetName("ninety-nine shelves of pressed ferns and mosses"); !errors.Is(err, model.ErrName) {
		t.Errorf("long name = %v", err)
	}
}

// FuzzDecode: any bytes in place of the primary copy give an error or a table
// that encodes to the very same bytes, in bounded time and memory.
func FuzzDecode(f *testing.F) {
	dev, _ := disk(f, 8*mib, 512, 1, 2)
	whole, _ := block.ReadSized(dev, 512, 33*512, 1<<20)
	f.Add(whole[:512], whole[512:])
	f.Add(make([]byte, 512), []byte{})
	f.Fuzz(func(t *testing.T, header, array []byte) {
		if len(header) != 512 || len(array) > 64<<10 {
			t.Skip()
		}
		d := block.NewMemory(1*mib, geometry(512))
		if err := block.WriteBytes(d, append(bytes.Clone(header), array...), 512); err != nil {
			t.Fatal(err)
		}
		table, err := Decode(d, 1)
		if err != nil {
			return
		}
		h, entries := table.encode(512, table.MyLBA, table.Alternate, table.ArrayLBA)
		got, _ := block.ReadSized(d, int64(table.ArrayLBA)*512, int64(len(entries)), maxArray)
		n := len(table.Entries) * int(table.EntrySize)
		if !bytes.Equal(h, header) || !bytes.Equal(entries[:n], got[:n]) {
			t.Fatal("what was read is not what would be written")
		}
	})
}

// FuzzEdits: after any sequence of additions and removals the table is valid
// and partitions and gaps fill its usable span.
func FuzzEdits(f *testing.F) {
	f.Add(uint64(1), 40)
	f.Add(uint64(7), 200)
	f.Fuzz(func(t *testing.T, seed uint64, steps int) {
		rng := rand.New(rand.NewPCG(seed, 3))
		dev, table := disk(t, 64*mib, 512)
		for range min(max(steps, 0), 300) {
			n := 1 + rng.IntN(130)
			span := extent.Span{Start: rng.Uint64N(1 << 17), Count: 1 + rng.Uint64N(1<<12)}
			if rng.IntN(3) == 0 {
				_ = table.Remove(n)
			} else {
				_ = table.Add(n, Entry{Type: guidOf(2), Unique: guidOf(byte(n)), First: span.Start, Last: span.End() - 1})
			}
		}
		old, _ := Read(dev)
		if _, err := Write(dev, old, table); err != nil {
			t.Fatalf("a table made by edits is refused: %v", err)
		}
		m := believed(t, dev).Model(512)
		sum := uint64(0)
		for _, s := range append(m.Spans(), m.Gaps()...) {
			sum += s.Count
		}
		if err := extent.Validate(append(m.Spans(), m.Gaps()...), m.Usable.End()); err != nil || sum != m.Usable.Count {
			t.Fatalf("partitions and gaps: %v, %d of %d sectors", err, sum, m.Usable.Count)
		}
	})
}

// TestWhatLinuxDoesNotSee: a record beside the protective one, a disk that has
// become smaller, numbers and entries that Linux does not take are found; and a
// table that still fits is made to fit again.
func TestWhatLinuxDoesNotSee(t *testing.T) {
	ids := func(dev block.Device) (out []finding.ID) {
		s, err := Read(dev)
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range Check("sdb", s) {
			out = append(out, f.ID)
		}
		return out
	}
	dev, _ := disk(t, 64*mib, 512, 8)
	zero := make([]byte, 512)
	_, _ = dev.ReadAt(zero, 0)
	zero[mbrRecords+mbrRecordSize+mbrType], zero[mbrRecords+mbrRecordSize+mbrCount] = 0x83, 1
	_, _ = dev.WriteAt(zero, 0)
	if got := ids(dev); !slices.Equal(got, []finding.ID{TableHybrid.ID}) {
		t.Errorf("hybrid: %v", got)
	}

	for what, change := range map[string]func(record []byte){
		"another size":  func(r []byte) { binary.LittleEndian.PutUint32(r[mbrCount:], 4096) },
		"another begin": func(r []byte) { r[1], r[2] = 1, 1 },
		"another end":   func(r []byte) { r[5] = 0x11 },
	} {
		dev, table := disk(t, 64*mib, 512, 8)
		b := make([]byte, 512)
		_, _ = dev.ReadAt(b, 0)
		change(b[mbrRecords:])
		_, _ = dev.WriteAt(b, 0)
		if got := ids(dev); !slices.Equal(got, []finding.ID{TableRecord.ID}) {
			t.Errorf("a protective record with %s: %v", what, got)
		}
		if _, err := table.Edit(512).Write(dev); err != nil || len(ids(dev)) != 0 {
			t.Errorf("a protective record with %s, written anew: %v, %v", what, err, ids(dev))
		}
	}

	dev, _ = disk(t, 64*mib, 512, 8)
	for size, mends := range map[int64]bool{48 * mib: true, 6 * mib: false} {
		smaller := block.NewMemory(size, geometry(512))
		b := make([]byte, size)
		_, _ = dev.ReadAt(b, 0)
		_, _ = smaller.WriteAt(b, 0)
		if got := ids(smaller); !slices.Equal(got, []finding.ID{TableShrunk.ID}) {
			t.Errorf("%d bytes: %v", size, got)
		}
		s, _ := Read(smaller)
		fixed := s.Cut.Edit(512)
		err := fixed.Rebuild(s.Sectors)
		if err == nil {
			_, err = fixed.Write(smaller)
		}
		if mends != (err == nil) || mends && len(ids(smaller)) != 0 {
			t.Errorf("%d bytes: made to fit: %v", size, err)
		}
	}

	dev = block.NewMemory(64*mib, geometry(512))
	wide, err := NewSized(64*mib, 512, mib, guidOf(9), 512)
	if err != nil {
		t.Fatal(err)
	}
	add(t, wide, 300, 512, 8)
	if _, err := Write(dev, nil, wide); err != nil {
		t.Fatal(err)
	}
	if got := ids(dev); !slices.Equal(got, []finding.ID{TableHidden.ID}) {
		t.Errorf("partition 300: %v", got)
	}

	wide, err = NewSized(64*mib, 512, mib, guidOf(9), 512)
	if err != nil {
		t.Fatal(err)
	}
	wide.EntrySize, wide.Entries = 256, wide.Entries[:256]
	add(t, wide, 1, 512, 8)
	if _, err := Write(dev, nil, wide); err != nil {
		t.Fatal(err)
	}
	s, _ := Read(dev)
	if got := ids(dev); !slices.Equal(got, []finding.ID{TableHidden.ID}) || len(s.Good().Model(512).Parts) != 1 {
		t.Errorf("entries of 256 bytes: %v", got)
	}
	for _, name := range []string{"\xff", "a\x00b"} {
		if err := (&Entry{}).SetName(name); !errors.Is(err, model.ErrName) {
			t.Errorf("the name %q: %v", name, err)
		}
	}
}

// TestProtectiveEnd: the end in cylinders, heads and sectors is the real one where three
// bytes can say it, else FF FF FF (UEFI 2.10, table 5.4).
func TestProtectiveEnd(t *testing.T) {
	for sectors, want := range map[uint64][3]byte{
		2097152:          {0x8A, 0x08, 0x82}, // 1 GiB: 130 cylinders, 138 heads, sector 8
		1024 * 255 * 63:  {0xFE, 0xFF, 0xFF}, // the last that can be said
		1024*255*63 + 1:  {0xFF, 0xFF, 0xFF},
		(64 << 30) / 512: {0xFF, 0xFF, 0xFF},
		63:               {0x00, 0x3F, 0x00},
	} {
		if got := protect(make([]byte, 512), sectors, false)[446+5 : 446+8]; [3]byte(got) != want {
			t.Errorf("%d sectors: % x, not % x", sectors, got, want)
		}
	}
}
