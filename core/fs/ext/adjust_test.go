package ext

import (
	"encoding/binary"
	"errors"
	"testing"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/fs"
	"fundus/core/quantity"
)

func asked(words ...string) fs.Wishes {
	wishes := fs.Wishes{}
	for i := 0; i < len(words); i += 2 {
		wishes[words[i]] = fs.Wish{Word: words[i+1], By: fs.ByRequest}
	}
	return wishes
}

// TestAdjustReachesEveryCopy: what is given later is read back, in the superblock and in each
// copy, and all else stays.
func TestAdjustReachesEveryCopy(t *testing.T) {
	for _, c := range []struct{ key, word, word2 string }{
		{"reserved", "1%", "5MiB"}, {"reserved-user", "7", "0"}, {"reserved-group", "65535", "0"}, {"stripe-unit", "64KiB", "none"}, {"check-after-mounts", "30", "never"},
		{"check-every", "180d", "36h"}, {"on-error", "panic", "read-only"}, {"mount-defaults", "commit=7,nodelalloc", "none"}, {"large-directories", "yes", ""}, {"checksum-seed", "yes", ""},
	} {
		dev, _ := made(t, 300*quantity.MiB, with("herbarium"))
		for _, word := range []string{c.word, c.word2} {
			wishes := asked(c.key, word)
			if c.key == "stripe-unit" {
				wishes = asked(c.key, word, "stripe-width", word)
			}
			if word == "" {
				continue
			}
			before, err := Values(dev)
			if err != nil {
				t.Fatal(err)
			}
			if err := Adjust(dev, wishes); err != nil {
				t.Fatalf("%s=%s: %v", c.key, word, err)
			}
			after, err := Values(dev)
			if err != nil {
				t.Fatal(err)
			}
			for i, v := range after {
				want := before[i].Word
				if w, ok := wishes[v.Key]; ok {
					want = w.Word
				}
				if v.Word != want {
					t.Errorf("%s=%s: %s is %s, want %s", c.key, word, v.Key, v.Word, want)
				}
			}
			s, _ := Read(dev)
			for _, at := range s.Backups() {
				other, err := readAt(dev, int64(at)*int64(s.BlockSize))
				if err != nil {
					t.Fatal(err)
				}
				primary := s.disk
				primary.GroupNumber, primary.Checksum = other.disk.GroupNumber, other.disk.Checksum
				if other.disk != primary {
					t.Errorf("%s=%s: the copy at block %d differs", c.key, word, at)
				}
			}
		}
	}
}

// TestJournalIsTakenOff: its blocks and those of its map are free afterwards, counted by the
// bitmaps, whichever way it was mapped; and nothing of it is left in the superblock.
func TestJournalIsTakenOff(t *testing.T) {
	for _, v := range []Variant{Ext3, Ext4} {
		for _, size := range []quantity.Bytes{40 * quantity.MiB, 3 * quantity.GiB} {
			o := with("")
			o.Variant, o.BlockSize = v, 1024
			if v == Ext3 {
				usual := Usual(v)
				o.Checksums, o.Wide, o.Flex, o.FullTables = usual.Checksums, usual.Wide, usual.Flex, usual.FullTables
			}
			dev, l := made(t, size, o)
			was, _ := Read(dev)
			if err := Adjust(dev, asked("journal", "no")); err != nil {
				t.Fatalf("%v of %v: %v", v, size, err)
			}
			s, err := Read(dev)
			if err != nil {
				t.Fatal(err)
			}
			freed := quantity.Count(l.JournalBlocks + uint64(len(l.journalMaps)))
			if s.Free != was.Free+freed || s.Compat&compatJournal != 0 || s.disk.JournalMap != [68]byte{} {
				t.Errorf("%v of %v: %d free, were %d; %+v", v, size, s.Free, was.Free, s.disk)
			}
			free := uint64(0)
			for g := range s.Groups() {
				d, err := s.descriptor(dev, g)
				if err != nil {
					t.Fatal(err)
				}
				free += uint64(d.FreeBlocksLo) | uint64(d.FreeBlocksHi)<<16
			}
			n, err := s.inode(dev, journalInode)
			if free != uint64(s.Free) || err != nil || n != (inode{}) {
				t.Errorf("%v of %v: the groups have %d free, the superblock says %d; inode %+v", v, size, free, s.Free, n)
			}
			if err := Adjust(dev, asked("journal", "8MiB")); !errors.Is(err, fs.ErrSetting) && !errors.Is(err, fs.ErrFixed) {
				t.Errorf("a journal put in: %v", err)
			}
		}
	}
}

// TestAnotherUUID: checksums go on from the one of before, and those of the older kind are
// computed anew; what was taken from a used file system is refused where it is not in order.
func TestAnotherUUID(t *testing.T) {
	id := uuid.MustParse("5eed0000-0000-4000-8000-00000000fe11")
	dev, _ := made(t, 300*quantity.MiB, with(""))
	was, _ := Read(dev)
	seed := was.seed()
	if err := SetUUID(dev, id); err != nil {
		t.Fatal(err)
	}
	if s, err := Read(dev); err != nil || s.UUID != id || s.seed() != seed || s.Incompat&incompatSeed == 0 {
		t.Errorf("%+v, %v", s, err)
	}
	o := with("")
	o.Checksums, o.FullTables = false, true
	dev, _ = made(t, 300*quantity.MiB, o)
	s, _ := Read(dev)
	s.disk.RO |= roDescCsum
	if err := block.WriteBytes(dev, s.sealed(), superOffset); err != nil {
		t.Fatal(err)
	}
	if err := SetUUID(dev, id); err != nil {
		t.Fatal(err)
	}
	s, _ = Read(dev)
	raw, _, err := s.rawDescriptor(dev, 2)
	if err != nil {
		t.Fatal(err)
	}
	want := binary.LittleEndian.Uint16(raw[gdChecksum:])
	if s.sealDescriptor(raw, 2, id, field.At(descriptor{}, "Checksum")); s.UUID != id || want == 0 || want != binary.LittleEndian.Uint16(raw[gdChecksum:]) {
		t.Errorf("descriptor of group 2: %#x", want)
	}
	if got := crc16(0xFFFF, []byte("123456789")); got != 0x4B37 { // the check value of this CRC
		t.Errorf("crc16 = %#x", got)
	}
	for _, spoil := range []func(s *Superblock){
		func(s *Superblock) { s.disk.Incompat |= incompatRecover }, func(s *Superblock) { s.disk.ErrorCount = 1 }, func(s *Superblock) { s.disk.State = 0 }, func(s *Superblock) { s.disk.Incompat |= 1 << 30 },
		func(s *Superblock) { s.disk.Compat |= compatStableInodes }, func(s *Superblock) { s.disk.Incompat |= incompatMMP },
	} {
		dev, _ := made(t, 32*quantity.MiB, with(""))
		s, _ := Read(dev)
		spoil(s)
		if err := block.WriteBytes(dev, s.sealed(), superOffset); err != nil {
			t.Fatal(err)
		}
		if err := SetUUID(dev, id); err == nil {
			t.Errorf("changed: %+v", s.disk)
		}
		if now, _ := Read(dev); now.UUID == id {
			t.Errorf("written to: %+v", s.disk)
		}
	}
}

// FuzzMap: whatever a map of an inode says, its blocks lie inside and are each counted once, or
// it is an error.
func FuzzMap(f *testing.F) {
	dev, _ := made(f, 3*quantity.GiB, with(""))
	s, err := Read(dev)
	if err != nil {
		f.Fatal(err)
	}
	n, err := s.inode(dev, journalInode)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(n.Block[:], true, uint32(0), []byte{})
	f.Add([]byte("\x01\x00\x00\x00"), false, uint32(900), []byte{1, 2, 3, 4})
	f.Fuzz(func(t *testing.T, body []byte, extents bool, at uint32, node []byte) {
		over := block.NewOverlay(dev, block.Spill{})
		if off := int64(at) * int64(s.BlockSize); len(node) <= int(s.BlockSize) && len(node) > 0 && off < over.Size()-int64(s.BlockSize) && off > 0 {
			if err := block.WriteBytes(over, node, off); err != nil {
				t.Fatal(err)
			}
		}
		n := inode{}
		copy(n.Block[:], body)
		if extents {
			n.Flags = flagExtents
		}
		spans, err := s.blocksOf(over, n)
		if err != nil {
			return
		}
		end := s.FirstData
		for _, span := range spans {
			if span.Start <= end && end > s.FirstData || span.End() > uint64(s.Blocks) || span.Count == 0 {
				t.Fatalf("%v of %d blocks", spans, s.Blocks)
			}
			end = span.End()
		}
	})
}
