package ext

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
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
	return Options{Label: label, UUID: uuid.UUID{1, 2, 3}, HashSeed: uuid.UUID{4}, JournalUUID: uuid.UUID{5},
		FirstSequence: 77, ReservedTenths: DefaultReservedTenths, Time: time.Date(2041, 5, 1, 0, 0, 0, 0, time.UTC)}
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

// sizes covers one group, a last group that is too short, several flex groups,
// many journal extents, the 2^32 block limit and the largest size.
func sizes() []quantity.Bytes {
	return []quantity.Bytes{quantity.MiB, 9 * quantity.MiB, 32*quantity.MiB + 512, 129*quantity.MiB + 4096, 700 * quantity.MiB,
		20 * quantity.GiB, quantity.TiB, 2*quantity.TiB + 512, 16 * quantity.TiB, 64 * quantity.TiB}
}

// TestLayoutIsSound: whatever the size and block size, nothing overlaps,
// everything lies on the device, and the counts in superblock and descriptors
// agree with each other.
func TestLayoutIsSound(t *testing.T) {
	for _, size := range sizes() {
		for _, b := range []quantity.Bytes{1024, 2048, 4096} {
			o := with("")
			o.BlockSize = b
			l, err := Plan(size, block.DefaultGeometry, o)
			if errors.Is(err, fs.ErrTooLarge) && size > 512*quantity.GiB && b < 4096 {
				continue // the descriptors would fill their groups
			}
			if err != nil {
				t.Fatalf("%v in blocks of %d: %v", size, b, err)
			}
			var all []extent.Span
			for g, place := range l.groups {
				all = append(all, extent.Span{Start: place.blockBitmap, Count: 1}, extent.Span{Start: place.inodeBitmap, Count: 1},
					extent.Span{Start: place.inodeTable, Count: l.TableBlocks})
				if uint64(g) >= l.Groups {
					t.Fatalf("%v: group %d of %d", size, g, l.Groups)
				}
			}
			all = append(all, l.base(0, l.Groups)...)
			all = append(all, l.Journal...)
			all = append(all, extent.Span{Start: l.root, Count: 1}, l.lostFound)
			for _, one := range []uint64{l.resizeMap, l.journalLeaf} {
				if one != 0 {
					all = append(all, extent.Span{Start: one, Count: 1})
				}
			}
			if err := extent.Validate(all, l.Blocks); err != nil {
				t.Fatalf("%v in blocks of %d: %v", size, b, err)
			}
			sum, inGroups := uint64(0), uint64(0)
			for _, s := range all {
				sum += s.Count
			}
			for g := range l.Groups {
				used, _ := l.usedIn(g)
				for _, s := range used {
					inGroups += s.Count
				}
			}
			if sum != inGroups || l.InodesPerGroup*l.Groups > 1<<32-1 || l.Left >= quantity.Bytes(l.BlocksPerGroup)*b {
				t.Errorf("%v in blocks of %d: %d blocks placed, %d in the groups; %d inodes; %v left over", size, b, sum, inGroups, l.InodesPerGroup*l.Groups, l.Left)
			}
		}
	}
}

// needed counts, independently of the planner, the bytes that the kernel needs
// at mount: superblock and descriptors in each copy, the pointers to reserved
// descriptors, the bitmaps of groups with something in them, the first inodes,
// two directories and the journal's own superblock and extents.
func needed(size, b, journal int64) int64 {
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
	descriptors := (groups*64 + b - 1) / b
	reserved := min(b/4, (min(size/b*1024, 1<<32)/(8*b)*64+b-1)/b-descriptors)
	flexes := (groups + 15) / 16
	bitmaps := flexes + (journal+perGroup-1)/perGroup + 1                                                                                         // a journal that begins in mid-group touches one more
	blocks := copies*(1+descriptors) + reserved + bitmaps + 1 /* inode bitmap */ + 1 /* inodes */ + 1 + 4 /* directories */ + 2 /* journal */ + 1 /* resize map */
	return blocks * b
}

// TestWritesOnlyWhatIsNeeded: a file system of 1 TiB writes at most 1.05 times
// what the formula counts, and never clears, fills or zeroes the rest.
func TestWritesOnlyWhatIsNeeded(t *testing.T) {
	for _, size := range []quantity.Bytes{20 * quantity.GiB, quantity.TiB, 4 * quantity.TiB} {
		dev, l := made(t, size, with("herbarium"))
		written := int64(0)
		for i := range dev.Phases() {
			for _, e := range dev.Phase(i) {
				written += e.Len
			}
		}
		want := needed(int64(size), 4096, int64(l.JournalBlocks)*4096)
		if ratio := float64(written) / float64(want); ratio > 1.05 || ratio < 0.9 {
			t.Errorf("%v: %d bytes written, the formula counts %d: %.3f times", size, written, want, ratio)
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
	table, err := block.ReadSized(dev, 4096, int64(l.Groups)*gdSize, 1<<20)
	if err != nil {
		t.Fatal(err)
	}
	seed := crc(^uint32(0), l.options.UUID[:])
	le, uninit := binary.LittleEndian, 0
	for g := range l.Groups {
		d := bytes.Clone(table[g*gdSize : (g+1)*gdSize])
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
