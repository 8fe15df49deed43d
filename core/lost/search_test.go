package lost

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/fs/ext"
	"fundus/core/fs/xfs"
	"fundus/core/probe/sample"
	"fundus/core/quantity"
	"fundus/core/table"
	"fundus/core/table/schemes"
)

var ctx = context.Background()

// layout is a disk with partitions of many kinds whose table is wiped, and decoys.
type layout struct {
	dev    *block.Overlay
	starts map[quantity.Bytes]string // kind by place
	decoys map[quantity.Bytes]bool
}

// contents are what the partitions hold: ext4 as it is made, and samples.
func contents() (list []sample.Sample) {
	wanted := []string{"FAT16", "FAT32", "exfat", "ntfs", "f2fs", "LUKS 1", "luks1", "LUKS 2", "luks2", "physical volume", "LVM", "swap, SWAPSPACE2", "jfs", "reiserfs", "RAID member 1.2"}
	for _, s := range sample.All() {
		if slices.Contains(wanted, s.Name) {
			list = append(list, s)
		}
	}
	return list
}

func build(t *testing.T, seed uint64) layout {
	t.Helper()
	rng := rand.New(rand.NewPCG(seed, 41))
	geo := block.DefaultGeometry
	scheme := []table.Scheme{table.GPT, table.MBR}[seed%2]
	l := layout{block.NewMemory(512<<20, geo), map[quantity.Bytes]string{}, map[quantity.Bytes]bool{}}
	e, err := schemes.New(l.dev, schemes.Wanted{Scheme: scheme, Step: quantity.MiB, ID: uuid.New()})
	if err != nil {
		t.Fatal(err)
	}
	typ, _ := table.ParseType(scheme, "linux")
	add := func(size quantity.Bytes, typ string) (quantity.Bytes, bool) {
		span, err := e.Model().Place(size, quantity.MiB)
		if err == nil {
			err = e.Add(table.Partition{Span: span, Type: typ, UUID: uuid.NewString()})
		}
		return quantity.Bytes(span.Start) * 512, err == nil
	}
	if scheme == table.MBR {
		if _, ok := add(400*quantity.MiB, "0f"); !ok {
			t.Fatal("no extended partition")
		}
	}
	all := contents()
	for range 4 + rng.IntN(4) {
		if rng.IntN(2) == 0 {
			size := quantity.Bytes(16+rng.IntN(60)) * quantity.MiB
			if start, ok := add(size, typ); ok {
				l.ext4(t, start, size, rng)
			}
			continue
		}
		s := all[rng.IntN(len(all))]
		size, _ := quantity.Bytes(s.Size).Up(quantity.MiB)
		if start, ok := add(size, typ); ok {
			for at, b := range s.Pieces {
				write(t, l.dev, b, int64(start)+at)
			}
			l.starts[start] = s.Kind
		}
	}
	// The table goes: its first MiB and its last.
	if err := l.dev.WriteZeroes(0, 1<<20); err != nil {
		t.Fatal(err)
	}
	if err := l.dev.WriteZeroes(511<<20, 1<<20); err != nil {
		t.Fatal(err)
	}
	// A superblock without a file system, in the free space behind.
	lone := make([]byte, 1024)
	for start, kind := range l.starts {
		if kind == "ext4" {
			if _, err := l.dev.ReadAt(lone, int64(start)+1024); err != nil {
				t.Fatal(err)
			}
			write(t, l.dev, lone, 500<<20+1024)
			l.decoys[500<<20] = true
			break
		}
	}
	return l
}

// ext4 makes a file system with another one inside, as an image file is.
func (l layout) ext4(t *testing.T, start, size quantity.Bytes, rng *rand.Rand) {
	t.Helper()
	part, err := block.NewSlice(l.dev, int64(start), int64(size))
	if err == nil {
		o := ext.Usual(ext.Ext4).With("herbarium", uuid.New(), time.Unix(1, 0))
		o.BlockSize = []quantity.Bytes{1024, 4096}[rng.IntN(2)]
		_, err = ext.Make(t.Context(), part, o)
	}
	if err != nil {
		t.Fatal(err)
	}
	l.starts[start] = "ext4"
	inside := int64(size) * 7 / 10 >> 20 << 20
	nested, err := block.NewSlice(part, inside, 2<<20)
	if err == nil {
		_, err = ext.Make(t.Context(), nested, ext.Usual(ext.Ext4).With("", uuid.New(), time.Unix(1, 0)))
	}
	if err != nil {
		t.Fatal(err)
	}
	l.decoys[start+quantity.Bytes(inside)] = true
}

func write(t *testing.T, dev block.Device, b []byte, at int64) {
	t.Helper()
	padded := append(slices.Clone(b), make([]byte, (512-len(b)%512)%512)...)
	if err := block.WriteBytes(dev, padded, at/512*512); err != nil {
		t.Fatal(err)
	}
}

// TestLayouts: of twenty layouts whose tables are wiped every partition is found
// and proposed where it began, and no decoy is proposed or ranks as high.
func TestLayouts(t *testing.T) {
	partitions, decoys := 0, 0
	for seed := range uint64(20) {
		l := build(t, seed)
		list, err := Find(ctx, l.dev, quantity.MiB, nil)
		if err != nil {
			t.Fatal(seed, err)
		}
		lowest, highest := 101, 0
		found := map[quantity.Bytes]bool{}
		var spans []extent.Span
		for _, f := range list {
			kind, real := l.starts[f.Start]
			switch {
			case real && f.Content.Kind == kind:
				found[f.Start] = f.Proposed
				lowest = min(lowest, f.Confidence)
			case l.decoys[f.Start]:
				decoys++
				if f.Proposed {
					t.Errorf("layout %d: the decoy at %v is proposed: %+v", seed, f.Start, f.Why)
				}
				if f.Conflict < 0 { // one inside of another is as good as that
					highest = max(highest, f.Confidence)
				}
			case f.Proposed:
				t.Errorf("layout %d: %s at %v is proposed: %v", seed, f.Content.Kind, f.Start, f.Why)
			}
			if f.Proposed {
				spans = append(spans, f.Span)
			}
		}
		for start, kind := range l.starts {
			partitions++
			if !found[start] {
				t.Errorf("layout %d: the %s at %v is not proposed", seed, kind, start)
			}
		}
		if highest >= lowest {
			t.Errorf("layout %d: a decoy has %d%%, a partition %d%%", seed, highest, lowest)
		}
		if err := extent.Validate(spans, uint64(l.dev.Size()/512)); err != nil {
			t.Errorf("layout %d: the proposals: %v", seed, err)
		}
	}
	if partitions < 80 || decoys < 20 {
		t.Errorf("only %d partitions and %d decoys", partitions, decoys)
	}
	fmt.Printf("search: %d partitions of 20 layouts found, %d decoys below them\n", partitions, decoys)
}

// TestUnreadable: a sector that cannot be read hides nothing else.
func TestUnreadable(t *testing.T) {
	l := build(t, 2)
	whole, err := Find(ctx, l.dev, quantity.MiB, nil)
	if err != nil {
		t.Fatal(err)
	}
	fault := block.NoFault
	fault.ReadErrorAt = 499 << 20
	list, err := Find(ctx, block.NewFaulty(l.dev, fault), quantity.MiB, nil)
	if err != nil || len(list) != len(whole) {
		t.Errorf("%d found, %v; without the fault %d", len(list), err, len(whole))
	}
}

// BenchmarkFind has the plain sequential read of the same bytes beside it.
func BenchmarkFind(b *testing.B) {
	dev := block.NewMemory(256<<20, block.DefaultGeometry)
	noise := make([]byte, 256<<20)
	rng := rand.New(rand.NewPCG(1, 1))
	for i := 0; i < len(noise); i += 8 {
		v := rng.Uint64()
		for k := range 8 {
			noise[i+k] = byte(v >> (8 * k))
		}
	}
	if _, err := dev.WriteAt(noise, 0); err != nil {
		b.Fatal(err)
	}
	b.Run("search", func(b *testing.B) {
		b.SetBytes(dev.Size())
		for b.Loop() {
			if _, err := Find(ctx, dev, quantity.MiB, nil); err != nil {
				b.Fatal(err)
			}
		}
	})
	b.Run("read", func(b *testing.B) {
		b.SetBytes(dev.Size())
		buf := make([]byte, 4<<20)
		for b.Loop() {
			for at := int64(0); at < dev.Size(); at += int64(len(buf)) {
				if _, err := dev.ReadAt(buf, at); err != nil {
					b.Fatal(err)
				}
			}
		}
	})
}

// TestWhatIsSureComesFirst: a member whose label has a right checksum is proposed, and a file
// system that lies inside of it, with all its copies, is not.
func TestWhatIsSureComesFirst(t *testing.T) {
	all := sample.All()
	member := all[slices.IndexFunc(all, func(s sample.Sample) bool { return s.Name == "physical volume" })]
	for _, damaged := range []bool{false, true} {
		dev := block.NewMemory(64<<20, block.DefaultGeometry)
		for at, b := range member.Pieces {
			write(t, dev, b, 1<<20+at)
		}
		if damaged {
			write(t, dev, []byte{0xff}, 1<<20+512+100)
		}
		part, err := block.NewSlice(dev, 2<<20, 6<<20)
		if err == nil {
			_, err = ext.Make(t.Context(), part, ext.Usual(ext.Ext4).With("seeds", uuid.New(), time.Unix(1, 0)))
		}
		if err != nil {
			t.Fatal(err)
		}
		list, err := Find(ctx, dev, quantity.MiB, nil)
		if err != nil {
			t.Fatal(err)
		}
		var proposed []string
		for _, f := range list {
			if f.Proposed {
				proposed = append(proposed, f.Content.Kind)
			} else if !damaged && f.Confidence > 1 {
				t.Errorf("%s at %v is offered at %d %%", f.Content.Kind, f.Start, f.Confidence)
			}
		}
		if want := map[bool]string{false: "[physical volume]", true: "[ext4]"}[damaged]; fmt.Sprint(proposed) != want {
			t.Errorf("label damaged %v: proposed is %v, want %s", damaged, proposed, want)
		}
	}
}

// TestBeginsGone: an ext whose beginning is gone is proposed where its copies say that it began;
// where another file system was made over it, that one alone is.
func TestBeginsGone(t *testing.T) {
	for _, over := range []bool{false, true} {
		dev := block.NewMemory(600<<20, block.DefaultGeometry)
		part, err := block.NewSlice(dev, 1<<20, 400<<20)
		if err == nil {
			o := ext.Usual(ext.Ext4).With("seeds", uuid.New(), time.Unix(1, 0))
			o.BlockSize = 4096
			_, err = ext.Make(t.Context(), part, o)
		}
		if err == nil {
			err = dev.WriteZeroes(1<<20, 1<<20)
		}
		if over && err == nil {
			_, err = xfs.MakeOrder(t.Context(), part, fs.Order{Label: "moss", ID: fs.Wide.Fresh(uuid.New()), Fresh: uuid.New, Time: time.Unix(1, 0)})
		}
		if err != nil {
			t.Fatal(err)
		}
		list, err := Find(ctx, dev, quantity.MiB, nil)
		var proposed []string
		for _, f := range list {
			if f.Proposed {
				proposed = append(proposed, fmt.Sprintf("%s %s at %v, %v", f.Content.Kind, f.Content.Label, f.Start, f.Content.Size))
			}
		}
		want := map[bool]string{false: "[ext4 seeds at 1.0 MiB, 400.0 MiB]", true: "[xfs moss at 1.0 MiB, 400.0 MiB]"}[over]
		if err != nil || fmt.Sprint(proposed) != want {
			t.Errorf("made over %v: %v, %v; want %s", over, proposed, err, want)
		}
	}
}
