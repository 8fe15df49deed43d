package ext

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"math/bits"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/quantity"
)

func with(label string) Options {
	o := Usual(Ext4).With(label, uuid.UUID{1, 2, 3}, time.Date(2041, 5, 1, 0, 0, 0, 0, time.UTC))
	o.HashSeed, o.JournalUUID, o.FirstSequence = uuid.UUID{4}, uuid.UUID{5}, 77
	return o
}

func made(t testing.TB, size quantity.Bytes, o Options) (*block.Overlay, *Layout) {
	t.Helper()
	dev := block.NewMemory(int64(size), block.DefaultGeometry)
	l, err := Make(t.Context(), dev, o)
	if err != nil {
		t.Fatalf("Make of %v: %v", size, err)
	}
	return dev, l
}

// odd draws what somebody may ask for, and a size around the borders of what was drawn.
func odd(rng *rand.Rand) (quantity.Bytes, Options) {
	pick := func(list ...int64) int64 { return list[rng.IntN(len(list))] }
	o := Usual(Variant(2+rng.IntN(3))).With("", uuid.UUID{1, 2, 3}, time.Unix(1772352000, 0))
	o.BlockSize, o.InodeSize = quantity.Bytes(pick(1024, 2048, 4096)), quantity.Bytes(pick(128, 256, 512, 1024))
	o.InodeEvery, o.Growth = quantity.Bytes(pick(0, 0, 4096, 65536, 1<<20)), pick(1, 1, 8, 1024)
	if o.Variant == Ext4 {
		o.Checksums, o.Wide, o.Flex = rng.IntN(2) == 0, rng.IntN(2) == 0, pick(0, 0, 2, 16, 64)
		o.FullTables, o.Seed = !o.Checksums || rng.IntN(4) == 0, o.Checksums && rng.IntN(4) == 0
	}
	if o.Variant >= Ext3 {
		o.Journal = quantity.Bytes(pick(-1, -1, 5<<20, 70<<20, 1<<30))
	}
	if rng.IntN(4) == 0 {
		o.InodeEvery, o.Inodes = 0, pick(1, 16, 64, 5000)
	}
	group := 8 * o.BlockSize * o.BlockSize
	size := group*quantity.Bytes(1+rng.IntN(40)) + o.BlockSize*quantity.Bytes(pick(-1, 0, 1, 40, 200, 3000))
	return max(size, quantity.MiB) + quantity.Bytes(pick(0, 512)), o
}

// TestLayoutIsSound: whatever is asked for, nothing overlaps, everything lies on the device,
// and the counts in superblock, descriptors and bitmaps agree with each other and with what
// is mapped, read back by the code that reads what others made.
func TestLayoutIsSound(t *testing.T) {
	rng, made, maps := rand.New(rand.NewPCG(19, 1)), 0, 0
	for range 400 {
		size, o := odd(rng)
		dev := block.NewMemory(int64(size), block.DefaultGeometry)
		l, err := Make(t.Context(), dev, o)
		if errors.Is(err, fs.ErrTooSmall) || errors.Is(err, fs.ErrSetting) || errors.Is(err, fs.ErrTooLarge) {
			continue
		}
		if err != nil {
			t.Fatalf("%d bytes, %+v: %v", size, o, err)
		}
		made++
		maps += len(l.journalMaps)
		all := l.base(0, l.Groups)
		for _, place := range l.groups {
			all = append(all, extent.Span{Start: place.blockBitmap, Count: 1}, extent.Span{Start: place.inodeBitmap, Count: 1}, extent.Span{Start: place.inodeTable, Count: l.TableBlocks})
		}
		all = append(append(all, l.Journal...), extent.Span{Start: l.root, Count: 1}, l.lostFound)
		for _, one := range append(l.journalMaps, l.resizeMap) {
			if one != 0 {
				all = append(all, extent.Span{Start: one, Count: 1})
			}
		}
		if err := extent.Validate(all, l.Blocks); err != nil {
			t.Fatalf("%d bytes, %+v: %v", size, o, err)
		}
		if err := errors.Join(counted(dev, l, all), marked(dev, l)); err != nil {
			t.Fatalf("%d bytes, %+v: %v", size, o, err)
		}
	}
	if made < 200 || maps < 1000 {
		t.Errorf("only %d were made, with %d blocks of maps", made, maps)
	}
}

// counted holds what lies on the device against the blocks that are taken.
func counted(dev block.Device, l *Layout, taken []extent.Span) error {
	s, err := Read(dev)
	if err != nil {
		return err
	}
	used, free := uint64(0), uint64(0)
	for _, span := range taken {
		used += span.Count
	}
	for g := range l.Groups {
		d, err := s.descriptor(dev, g)
		if err != nil {
			return err
		}
		here := uint64(d.FreeBlocksLo) | uint64(d.FreeBlocksHi)<<16
		free += here
		if d.Flags&blockUninit != 0 {
			continue
		}
		bitmap, err := block.ReadSized(dev, int64(wide(d.BlockBitmapLo, d.BlockBitmapHi))*int64(s.BlockSize), int64(s.BlockSize), 1<<16)
		if err != nil {
			return err
		}
		for _, b := range bitmap {
			here += uint64(bits.OnesCount8(b))
		}
		if here != 8*uint64(s.BlockSize) {
			return fmt.Errorf("group %d: free and taken are %d", g, here)
		}
	}
	if used+free+l.FirstData != l.Blocks || uint64(s.Free) != free {
		return fmt.Errorf("%d taken and %d free of %d blocks; the superblock says %d", used, free, l.Blocks, s.Free)
	}
	if l.JournalBlocks == 0 {
		return nil
	}
	n, err := s.inode(dev, journalInode)
	if err != nil {
		return err
	}
	spans, err := s.blocksOf(dev, n)
	mapped, want := uint64(0), l.JournalBlocks+uint64(len(l.journalMaps))
	for _, span := range spans {
		mapped += span.Count
	}
	if units := uint64(n.BlocksLo) | uint64(n.BlocksHi)<<32; err != nil || mapped != want || units != want*uint64(s.BlockSize)/512 {
		return fmt.Errorf("the journal has %d blocks and %d units, want %d blocks: %w", mapped, units, want, err)
	}
	return nil
}

// marked holds every inode that is in use, by its number or by what stands in it, against the
// bitmap of the group in which it lies, and the counts of groups against those bitmaps.
func marked(dev block.Device, l *Layout) error {
	s, err := Read(dev)
	if err != nil {
		return err
	}
	free, size := uint64(0), int64(s.InodeSize)
	for g := range l.Groups {
		d, err := s.descriptor(dev, g)
		if err != nil {
			return err
		}
		bitmap := make([]byte, s.BlockSize)
		if d.Flags&inodeUninit == 0 {
			if bitmap, err = block.ReadSized(dev, int64(wide(d.InodeBitmapLo, d.InodeBitmapHi))*int64(s.BlockSize), int64(s.BlockSize), 1<<16); err != nil {
				return err
			}
		}
		here, table := uint64(0), int64(d.inodeTable())*int64(s.BlockSize)
		for i := range l.InodesPerGroup {
			number, set := g*l.InodesPerGroup+i+1, bitmap[i/8]>>(i%8)&1 == 1
			used := number <= firstInode
			if g < 3 || i < 16 { // each of them in the first groups, and the beginning of the others
				n, err := block.ReadSized(dev, table+int64(i)*size, 128, 128)
				if err != nil {
					return err
				}
				used = used || n[0] != 0 || n[1] != 0 || n[26] != 0
			}
			if set {
				here++
			}
			if used != set {
				return fmt.Errorf("inode %d in group %d: in use %v, marked %v", number, g, used, set)
			}
		}
		left := uint64(d.FreeInodesLo) | uint64(d.FreeInodesHi)<<16
		if left+here != l.InodesPerGroup {
			return fmt.Errorf("group %d: %d inodes free and %d marked of %d", g, left, here, l.InodesPerGroup)
		}
		free += left
	}
	if free != uint64(s.FreeInodes) {
		return fmt.Errorf("%d inodes are free in the groups; the superblock says %d", free, s.FreeInodes)
	}
	return nil
}

// needed counts, independently of the planner, the bytes that the kernel needs
// at mount: superblock and descriptors in each copy, the pointers to reserved
// descriptors, the bitmaps of groups with something in them, the first inodes,
// two directories and the journal's own superblock and extents. Without checksums it needs
// every bitmap and every table.
func needed(size, b, journal int64, checksums bool) int64 {
	perGroup := 8 * b * b
	groups := (size + perGroup - 1) / perGroup
	copies := int64(1)
	for _, base := range []int64{3, 5, 7} {
		for p := base; p < groups; p *= base {
			copies++
		}
	}
	if groups > 1 {
		copies++
	}
	descSize := int64(32)
	if checksums {
		descSize = 64
	}
	descriptors := (groups*descSize + b - 1) / b
	reserved := min(b/4, (min(size/b*1024, 1<<32-1)/(8*b)*descSize+b-1)/b-descriptors)
	if size/b >= 1<<32 {
		reserved = 0
	}
	flexes := (groups + 15) / 16
	bitmaps := flexes + (journal+perGroup-1)/perGroup + 1 // a journal that begins in mid-group touches one more
	if !checksums {
		bitmaps = 2*groups + size/16384*256/b + journal/b/(b/4)
	}
	blocks := copies*(1+descriptors) + reserved + bitmaps + 1 /* inode bitmap */ + 1 /* inodes */ + 1 + 4 /* directories */ + 2 /* journal */ + 1 /* resize map */
	return blocks * b
}

// TestWritesOnlyWhatIsNeeded: at most 1.02 times what the formula counts, and the rest is
// never cleared, filled or zeroed.
func TestWritesOnlyWhatIsNeeded(t *testing.T) {
	for _, c := range []struct {
		size quantity.Bytes
		v    Variant
	}{{20 * quantity.GiB, Ext4}, {quantity.TiB, Ext4}, {4 * quantity.TiB, Ext4}, {16*quantity.TiB + 4096, Ext4}, {20 * quantity.GiB, Ext3}, {300 * quantity.GiB, Ext2}} {
		o := Usual(c.v).With("herbarium", uuid.UUID{1, 2, 3}, time.Unix(1772352000, 0))
		dev, l := made(t, c.size, o)
		written := int64(0)
		for i := range dev.Phases() {
			for _, e := range dev.Phase(i) {
				written += e.Len
			}
		}
		want := needed(int64(c.size), 4096, int64(l.JournalBlocks)*4096, o.Checksums)
		if ratio := float64(written) / float64(want); ratio > 1.02 || ratio < 0.97 {
			t.Errorf("%v of %v: %d bytes written, the formula counts %d: %.3f times", c.v, c.size, written, want, ratio)
		}
	}
}

// TestProbeReadsWhatWasMade also holds the arithmetic: blocks times block size.
func TestProbeReadsWhatWasMade(t *testing.T) {
	dev, l := made(t, 700*quantity.MiB, with("herbarium"))
	c, err := Probe(dev)
	if err != nil || c == nil {
		t.Fatal(c, err)
	}
	if c.Kind != "ext4" || c.Label != "herbarium" || c.UUID != "01020300-0000-0000-0000-000000000000" || c.State != fs.Clean ||
		c.Size != 700*quantity.MiB || c.BlockSize != 4096 || len(c.Unknown) != 0 {
		t.Errorf("Probe = %+v", c)
	}
	s, err := Read(dev)
	if err != nil {
		t.Fatal(err)
	}
	if uint64(s.Reserved) != l.Blocks/20 || s.Made.Year() != 2041 {
		t.Errorf("reserved %d, made %v", s.Reserved, s.Made)
	}
	for _, at := range s.Backups() {
		b, err := readAt(dev, int64(at)*4096)
		if err != nil || b.UUID != s.UUID || b.Blocks != s.Blocks {
			t.Errorf("backup at block %d: %v", at, err)
		}
	}
}

// TestUninitialisedGroupsAreMarkedAndNotWritten reads the descriptors back:
// checksums hold, no table is said to be zeroed, and a block bitmap is stored
// exactly where its group is not marked.
func TestUninitialisedGroupsAreMarkedAndNotWritten(t *testing.T) {
	dev, l := made(t, 8*quantity.GiB, with(""))
	table, err := block.ReadSized(dev, 4096, int64(l.Groups)*64, 1<<20)
	if err != nil {
		t.Fatal(err)
	}
	seed := crc(^uint32(0), l.options.UUID[:])
	le, uninit := binary.LittleEndian, 0
	for g := range l.Groups {
		d := bytes.Clone(table[g*64 : (g+1)*64])
		want, flags := le.Uint16(d[gdChecksum:]), le.Uint16(d[gdFlags:])
		le.PutUint16(d[gdChecksum:], 0)
		if got := uint16(crc(crc(seed, le.AppendUint32(nil, uint32(g))), d)); got != want {
			t.Errorf("group %d: checksum %#x, want %#x", g, got, want)
		}
		if flags&4 != 0 {
			t.Errorf("group %d: inode table said to be zeroed", g)
		}
		_, _, hole, _ := dev.Next(int64(l.groups[g].blockBitmap) * 4096)
		if stored := !hole; stored == (flags&blockUninit != 0) {
			t.Errorf("group %d: bitmap stored %v, flags %#x", g, stored, flags)
		}
		if flags&blockUninit != 0 {
			uninit++
		}
	}
	if uninit == 0 {
		t.Error("no group is uninitialised")
	}
}

// TestLabelReachesEveryCopy and nothing but label and checksums changes.
func TestLabelReachesEveryCopy(t *testing.T) {
	dev, _ := made(t, 700*quantity.MiB, with("herbarium"))
	over := block.NewOverlay(dev, block.Spill{})
	if err := SetLabel(over, "scans"); err != nil {
		t.Fatal(err)
	}
	s, err := Read(over)
	if err != nil || s.Label != "scans" {
		t.Fatalf("label %v, %v", s, err)
	}
	for _, at := range append([]uint64{0}, s.Backups()...) {
		off := int64(at) * 4096
		if at == 0 {
			off = superOffset
		}
		before, _ := block.ReadSized(dev, off, superSize, superSize)
		after, _ := block.ReadSized(over, off, superSize, superSize)
		for i := range before {
			if before[i] != after[i] && (i < sbLabel || i >= sbLabel+16) && i < sbChecksum {
				t.Fatalf("copy at block %d: byte %#x changed", at, i)
			}
		}
		if string(after[sbLabel:sbLabel+6]) != "scans\x00" {
			t.Errorf("copy at block %d: label %q", at, after[sbLabel:sbLabel+16])
		}
	}
	if err := SetLabel(over, "seventeen letters"); !errors.Is(err, fs.ErrLabel) {
		t.Errorf("long label = %v", err)
	}
}

// edit changes the superblock and recomputes its checksum.
func edit(t testing.TB, dev block.Device, off int, value ...byte) {
	t.Helper()
	raw, err := block.ReadSized(dev, superOffset, superSize, superSize)
	if err != nil {
		t.Fatal(err)
	}
	copy(raw[off:], value)
	binary.LittleEndian.PutUint32(raw[sbChecksum:], crc(^uint32(0), raw[:sbChecksum]))
	if err := block.WriteBytes(dev, raw, superOffset); err != nil {
		t.Fatal(err)
	}
}

func TestDamageAndUnknownFeatures(t *testing.T) {
	for _, c := range []struct {
		name  string
		off   int
		bytes []byte
		want  error
	}{
		{"signature", sbMagic, []byte{0}, field.ErrMagic},
		{"block size of 2^40", sbLogBlock, []byte{30}, field.ErrRange},
		{"no blocks per group", sbBlocksPerGroup, []byte{0, 0, 0, 0}, field.ErrRange},
		{"inode size 200", sbInodeSize, []byte{200, 0}, field.ErrRange},
		{"more free than there are", sbFreeBlocksHi, []byte{9}, field.ErrRange},
		{"blocks times block size beyond 2^63", sbBlocksHi, []byte{0xFF, 0xFF, 0xFF, 0xFF}, field.ErrRange},
	} {
		dev, _ := made(t, 32*quantity.MiB, with(""))
		edit(t, dev, c.off, c.bytes...)
		if _, err := Read(dev); !errors.Is(err, c.want) {
			t.Errorf("%s: %v, want %v", c.name, err, c.want)
		}
	}
	dev, _ := made(t, 32*quantity.MiB, with(""))
	if err := block.WriteBytes(dev, []byte{1}, superOffset+sbLabel); err != nil {
		t.Fatal(err)
	}
	if c, err := Probe(dev); err != nil || c.State != fs.Damaged {
		t.Errorf("a wrong checksum: %+v, %v", c, err)
	}
	dev, _ = made(t, 32*quantity.MiB, with(""))
	edit(t, dev, sbIncompat+3, 0x40)
	if c, err := Probe(dev); err != nil || c.State != fs.Clean || fmt.Sprint(c.Unknown) != "[incompatible 0x40000000]" {
		t.Errorf("an unknown feature is not damage: %+v, %v", c, err)
	}
	if err := SetLabel(dev, "x"); !errors.Is(err, fs.ErrUnsupported) {
		t.Errorf("writing with an unknown feature = %v", err)
	}
}

// TestDueAndStripe: a check is due when the mounts that are allowed are used up,
// never where the count is switched off; the stripe is counted in blocks.
func TestDueAndStripe(t *testing.T) {
	for _, c := range []struct {
		count, most byte
		high        byte
		due         bool
	}{{2, 3, 0, false}, {3, 3, 0, true}, {3, 0xFF, 0xFF, false}, {3, 0, 0, false}} {
		dev, _ := made(t, 32*quantity.MiB, with(""))
		edit(t, dev, sbMountCount, c.count)
		edit(t, dev, sbMaxMounts, c.most, c.high)
		edit(t, dev, sbStripe, 96)
		edit(t, dev, sbCheckEvery, 60)
		if got, err := Probe(dev); err != nil || (got.Due != "") != c.due || got.Stripe != 96*got.BlockSize || !got.CheckBy.Equal(with("").Time.Add(time.Minute)) {
			t.Errorf("%+v: due %q, stripe %v, %v", c, got.Due, got.Stripe, err)
		}
	}
}

// TestMountLeavesTraces: what the simulated kernel writes is seen.
func TestMountLeavesTraces(t *testing.T) {
	dev, _ := made(t, 32*quantity.MiB, with(""))
	at := time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	if err := MarkMounted(dev, at, "/srv/herbarium"); err != nil {
		t.Fatal(err)
	}
	s, _ := Read(dev)
	if s.FileState() != fs.Recovery || s.MountCount != 1 || !s.Mounted.Equal(at) || s.LastMounted != "/srv/herbarium" {
		t.Errorf("mounted: %+v", s)
	}
	if err := MarkUnmounted(dev, at.Add(time.Hour)); err != nil {
		t.Fatal(err)
	}
	if s, _ = Read(dev); s.FileState() != fs.Clean || !s.Written.Equal(at.Add(time.Hour)) {
		t.Errorf("unmounted: %+v", s)
	}
}

// FuzzSuperblock: any superblock gives an error or one whose figures fit
// together; asking everything of it never panics and stays bounded.
func FuzzSuperblock(f *testing.F) {
	dev, _ := made(f, 32*quantity.MiB, with("herbarium"))
	good, _ := block.ReadSized(dev, superOffset, superSize, superSize)
	f.Add(good)
	f.Add(make([]byte, superSize))
	f.Fuzz(func(t *testing.T, raw []byte) {
		if len(raw) != superSize {
			t.Skip()
		}
		s, err := decodeSuper(raw, superOffset)
		if err != nil {
			return
		}
		if s.Free > s.Blocks || s.Size() <= 0 || len(s.Backups()) > maxBackups {
			t.Fatalf("accepted: %+v", s)
		}
		s.facts()
		if !bytes.Equal(s.sealed(), raw) {
			t.Fatal("the bytes are not kept")
		}
	})
}
