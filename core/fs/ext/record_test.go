package ext

import (
	"bytes"
	"encoding/binary"
	"errors"
	"math/rand/v2"
	"testing"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/quantity"
)

// Offsets as super.rst and group_descr.rst give them: the records must come to the same.
const (
	sbInodes         = 0x00
	sbLogBlock       = 0x18
	sbBlocksPerGroup = 0x20
	sbMountCount     = 0x34
	sbMaxMounts      = 0x36
	sbMagic          = 0x38
	sbCheckEvery     = 0x44
	sbInodeSize      = 0x58
	sbIncompat       = 0x60
	sbLabel          = 0x78
	sbBlocksHi       = 0x150
	sbFreeBlocksHi   = 0x158
	sbStripe         = 0x170
	sbChecksum       = 0x3FC

	gdFlags    = 0x12
	gdChecksum = 0x1E
)

// TestRecordsLieAsTheSourceSays: sizes and some places of each record.
func TestRecordsLieAsTheSourceSays(t *testing.T) {
	for _, c := range []struct {
		record any
		size   int
		at     map[string]int
	}{
		{super{}, 1024, map[string]int{"Inodes": sbInodes, "LogBlock": sbLogBlock, "MountCount": sbMountCount, "Magic": sbMagic, "CheckEvery": sbCheckEvery, "InodeSize": sbInodeSize, "UUID": 0x68, "Label": sbLabel,
			"LastMounted": 0x88, "ReservedGDT": 0xCE, "HashSeed": 0xEC, "DescSize": 0xFE, "MakeTime": 0x108, "JournalMap": 0x10C, "BlocksHi": sbBlocksHi, "Stripe": sbStripe, "LogFlex": 0x174, "ErrorCount": 0x194,
			"ChecksumSeed": 0x270, "WriteTimeHi": 0x274, "Checksum": sbChecksum}},
		{descriptorFirst{}, 32, map[string]int{"Flags": gdFlags, "Checksum": gdChecksum}},
		{descriptor{}, 64, map[string]int{"BlockBitmapHi": 0x20, "FreeBlocksHi": 0x2C, "UnusedHi": 0x32, "InodeSumHi": 0x3A}},
		{inodeFirst{}, 128, map[string]int{"Links": 0x1A, "Block": 0x28, "Generation": 0x64, "SizeHi": 0x6C, "ChecksumLo": 0x7C}},
		{inode{}, 160, map[string]int{"ExtraSize": 0x80, "ChecksumHi": 0x82, "CreateX": 0x94, "Project": 0x9C}},
	} {
		if got := binary.Size(c.record); got != c.size {
			t.Errorf("%T has %d bytes, want %d", c.record, got, c.size)
		}
		for name, want := range c.at {
			if got := field.At(c.record, name); got != want {
				t.Errorf("%T: %s is at %#x, want %#x", c.record, name, got, want)
			}
		}
	}
}

// TestRecordsKeepEveryByte: whatever is on the disk is the same when it was read and is
// written, fields without a meaning too.
func TestRecordsKeepEveryByte(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 7))
	for _, record := range []any{&super{}, &descriptor{}, &descriptorFirst{}, &inode{}, &inodeFirst{}} {
		b := make([]byte, binary.Size(record))
		for i := range b {
			b[i] = byte(rng.Uint32())
		}
		if err := field.Decode(b, binary.LittleEndian, record); err != nil {
			t.Fatal(err)
		}
		if got := field.Encode(binary.LittleEndian, record); !bytes.Equal(got, b) {
			t.Errorf("%T: %x became %x", record, b, got)
		}
		if err := field.Decode(b[:len(b)-1], binary.LittleEndian, record); err == nil {
			t.Errorf("%T is read off too few bytes", record)
		}
		seen := map[string]bool{}
		for _, s := range field.Specs(record, nil) {
			if s.Name == "" || seen[s.Name] && s.Name != "reserved" {
				t.Errorf("%T: a field is called %q, as another one", record, s.Name)
			}
			seen[s.Name] = true
		}
	}
}

// TestByPlaceIsAsTheRecordsSay: what is taken apart by where it lies is what the records, by their
// names, say of any bytes, of every length; and is put together again as it was.
func TestByPlaceIsAsTheRecordsSay(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 7))
	le := binary.LittleEndian
	for round := range 300 {
		b := make([]byte, 300)
		for i := range b {
			b[i] = byte(rng.Uint32())
		}
		if round%2 == 0 {
			le.PutUint16(b[inodeShort:], uint16(rng.IntN(40))) // extra bytes in use
		}
		for _, n := range []int{0, 31, 32, 63, 64, 127, 128, 130, 131, 160, 256} {
			var d descriptor
			var err error
			if n < binary.Size(d) {
				err = field.Decode(b[:n], le, &d.descriptorFirst)
			} else {
				err = field.Decode(b[:n], le, &d)
			}
			got, errGot := decodeDescriptor(b[:n])
			if (err == nil) != (errGot == nil) || err == nil && got != d || errGot != nil && !errors.Is(errGot, field.ErrShort) {
				t.Fatalf("a descriptor of %d bytes: %+v, %v, the record says %+v, %v", n, got, errGot, d, err)
			}
			if n >= descriptorLong && !bytes.Equal(got.encode(), field.Encode(le, &d)) {
				t.Fatalf("%+v is put together as %x", d, got.encode())
			}
			var i inode
			if n > inodeShort+2 {
				extra := make([]byte, binary.Size(i.inodeExtra))
				copy(extra, b[inodeShort:min(n, inodeShort+int(le.Uint16(b[inodeShort:])))])
				err = field.Decode(extra, le, &i.inodeExtra)
			}
			if errFirst := field.Decode(b[:n], le, &i.inodeFirst); errFirst != nil {
				err = errFirst
			} else if n >= inodeShort {
				err = nil
			}
			has, errHas := decodeInode(b[:n])
			if (err == nil) != (errHas == nil) || err == nil && has != i || errHas != nil && !errors.Is(errHas, field.ErrShort) {
				t.Fatalf("an inode of %d bytes: %+v, %v, the record says %+v, %v", n, has, errHas, i, err)
			}
		}
	}
	for name, at := range map[string]int{"ChecksumLo": inodeSumLoAt, "ChecksumHi": inodeSumHiAt} {
		if want := field.At(inode{}, name); at != want {
			t.Errorf("%s of an inode is at %d, want %d", name, at, want)
		}
	}
	if want := field.At(descriptor{}, "Checksum"); descriptorSumAt != want {
		t.Errorf("the checksum of a descriptor is at %d, want %d", descriptorSumAt, want)
	}
}

// TestInodesOfEverySize: the root directory is read with descriptors of 32 and of 64
// bytes, and from inodes whose extra fields are missing, cut, or in use.
func TestInodesOfEverySize(t *testing.T) {
	for _, c := range []struct {
		size  quantity.Bytes
		extra uint16
		want  uint32 // the time of making
	}{{256, 32, 1}, {256, 28, 1}, {256, 20, 1}, {256, 16, 0}, {256, 4, 0}, {128, 32, 0}, {512, 32, 1}, {1024, 0xFFFF, 1}} {
		for _, wide := range []bool{true, false} {
			dev, l := made(t, 64*quantity.MiB, with("seeds"))
			s, err := Read(dev)
			if err != nil {
				t.Fatal(err)
			}
			s.InodeSize = c.size
			if !wide {
				s.Incompat &^= incompat64Bit
			}
			n := inode{inodeFirst: inodeFirst{Mode: modeDir | 0o755}, inodeExtra: inodeExtra{ExtraSize: c.extra, CreateTime: 1, Project: 9}}
			b := make([]byte, 1024)
			copy(b, field.Encode(binary.LittleEndian, &n))
			if c.size == 128 {
				clear(b[128:])
			}
			at := int64(l.groups[0].inodeTable*uint64(l.BlockSize)) + int64(c.size) // inode 2
			if err := block.WriteBytes(dev, b[:c.size], at); err != nil {
				t.Fatal(err)
			}
			got, err := s.inode(dev, rootInode)
			if err != nil || got.Mode != n.Mode || got.CreateTime != c.want {
				t.Errorf("inodes of %d bytes with %d extra ones, wide %v: %+v, %v", c.size, c.extra, wide, got, err)
			}
			if project := got.Project; project != 0 && c.extra < 32 {
				t.Errorf("a project of %d is read where none is in use", project)
			}
		}
	}
}

// TestFieldsOfDamage: a descriptor that points anywhere, and a device that ends behind
// the superblock, are shown as far as there is something.
func TestFieldsOfDamage(t *testing.T) {
	for name, c := range map[string]struct {
		at    int64
		bytes []byte
		size  int64
		want  int
	}{
		"whole":                          {size: 64 << 20, want: 3},
		"inode table beyond the device":  {0x800 + 8, []byte{0, 0, 0, 0x10}, 64 << 20, 2},
		"inode table beyond all numbers": {0x800 + 0x28, []byte{0xFF, 0xFF, 0xFF, 0x7F}, 64 << 20, 2},
		"no descriptor is there":         {size: 2048, want: 2},
	} {
		dev, _ := made(t, 64*quantity.MiB, with("seeds"))
		if err := block.WriteBytes(dev, c.bytes, c.at); c.bytes != nil && err != nil {
			t.Fatal(err)
		}
		part, err := block.NewSlice(dev, 0, c.size)
		if err != nil {
			t.Fatal(err)
		}
		list, err := Fields(part)
		if err != nil || len(list) != c.want {
			t.Errorf("%s: %d structures, %v", name, len(list), err)
		}
		for _, s := range list {
			if s.Base < 0 {
				t.Errorf("%s: %s from byte %d", name, s.Name, s.Base)
			}
		}
	}
}
