package kind

import (
	"encoding/binary"
	"testing"

	"fundus/core/block"
	"fundus/core/fence"
	"fundus/core/fs"
)

type patch struct {
	off   int64
	bytes string
}

func u32(v uint32, order binary.AppendByteOrder) string { return string(order.AppendUint32(nil, v)) }

// TestProbes builds each image byte by byte; offsets are those of the sources
// that the packages cite.
func TestProbes(t *testing.T) {
	be, le := binary.BigEndian, binary.LittleEndian
	fat := []patch{{0, "\xEB\x3C\x90"}, {11, "\x00\x02"}, {13, "\x04"}, {14, "\x01\x00"}, {16, "\x02"}, {17, "\x00\x02"},
		{21, "\xF8"}, {22, "\x20\x00"}, {32, u32(40000, le)}, {38, "\x29"}, {39, "\x78\x56\x34\x12"}, {43, "FIELDCARD  "}, {510, "\x55\xAA"}}
	cases := []struct {
		name    string
		patches []patch
		want    fs.Content
	}{
		{"xfs", []patch{{0, "XFSB"}, {4, u32(4096, be)}, {12, u32(5000, be)}, {32, "\x01\x02"}, {108, "vault"}, {148, u32(1000, be)}},
			fs.Content{Kind: "xfs", Label: "vault", UUID: "01020000-0000-0000-0000-000000000000", Size: 5000 * 4096, Used: 4000 * 4096, State: fs.Clean}},
		{"xfs with more free than blocks", []patch{{0, "XFSB"}, {4, u32(4096, be)}, {12, u32(5000, be)}, {148, u32(5001, be)}},
			fs.Content{Kind: "xfs", State: fs.Damaged}},
		{"xfs whose checksum does not match", []patch{{0, "XFSB"}, {4, u32(4096, be)}, {12, u32(5000, be)}, {100, "\x00\x05\x02\x00"}, {148, u32(1000, be)}, {224, u32(1, le)}},
			fs.Content{Kind: "xfs", State: fs.Damaged}},
		{"xfs whose checksum matches", []patch{{0, "XFSB"}, {4, u32(4096, be)}, {12, u32(5000, be)}, {100, "\x00\x05\x02\x00"}, {148, u32(1000, be)}, {224, "\x04\xBE\xD8\x0A"}},
			fs.Content{Kind: "xfs", Size: 5000 * 4096, Used: 4000 * 4096, State: fs.Clean}},
		{"FAT16", fat, fs.Content{Kind: "FAT16", UUID: "1234-5678", Size: 40000 * 512, State: fs.Clean}},
		{"FAT32", append(fat[:len(fat):len(fat)], patch{17, "\x00\x00"}, patch{22, "\x00\x00"}, patch{32, u32(600000, le)}, patch{36, u32(600, le)}, patch{66, "\x29"}, patch{67, "\x01\x00\x00\x00"}, patch{71, "SCANS      "}),
			fs.Content{Kind: "FAT32", UUID: "0000-0001", Size: 600000 * 512, State: fs.Clean}},
		{"swap of 16 KiB pages, big-endian", []patch{{16384 - 10, "SWAPSPACE2"}, {1024, u32(1, be)}, {1028, u32(99, be)}, {1052, "rest"}},
			fs.Content{Kind: "swap", Label: "rest", Size: 100 * 16384, State: fs.Clean}},
		{"MBR", []patch{{440, "\x0D\xF0\xAD\x0B"}, {446, "\x80"}, {450, "\x83"}, {454, u32(2048, le)}, {458, u32(100, le)}, {510, "\x55\xAA"}},
			fs.Content{Kind: "MBR", UUID: "0badf00d", State: fs.Clean}},
	}
	for _, c := range cases {
		dev := block.NewMemory(1<<20, block.DefaultGeometry)
		for _, p := range c.patches {
			if err := block.WriteBytes(dev, []byte(p.bytes), p.off); err != nil {
				t.Fatal(err)
			}
		}
		got, err := Probe(dev)
		if err != nil || len(got) != 1 {
			t.Errorf("%s: %+v, %v", c.name, got, err)
			continue
		}
		g := got[0]
		if g.Kind != c.want.Kind || g.Label != c.want.Label || g.UUID != c.want.UUID || g.Size != c.want.Size || g.Used != c.want.Used || g.State != c.want.State {
			t.Errorf("%s: %+v, want %+v", c.name, g, c.want)
		}
	}
	if got, err := Probe(block.Zero{Bytes: 1 << 20, Geo: block.DefaultGeometry}); len(got) != 0 || err != nil {
		t.Errorf("blank: %v, %v", got, err)
	}
}

// FuzzProbe: no bytes at the start of a device make a probe panic or fail.
func FuzzProbe(f *testing.F) {
	f.Add([]byte("XFSB\x00\x00\x10\x00"))
	f.Add([]byte("FUNDUS FENCE 1\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		if len(b) > 64<<10 {
			t.Skip()
		}
		dev := block.NewMemory(1<<20, block.DefaultGeometry)
		if err := block.WriteBytes(dev, b, 0); err != nil {
			t.Fatal(err)
		}
		if _, err := Probe(dev); err != nil {
			t.Fatal(err)
		}
	})
}

// TestFencesAreFound: a fence that stands where any kind has a mark is found again.
func TestFencesAreFound(t *testing.T) {
	for _, k := range All() {
		for _, m := range k.Marks {
			for _, sector := range []int64{512, 4096} {
				dev := block.NewMemory(1<<20, block.Geometry{Logical: sector, Physical: sector})
				at := m.At / sector * sector
				whole := make([]byte, sector)
				copy(whole, fence.Encode(fence.Fence{Deed: "0001-ab"}))
				if err := block.WriteBytes(dev, whole, at); err != nil {
					t.Fatal(err)
				}
				if f, found, err := fence.Find(dev); err != nil || f == nil || found != at {
					t.Errorf("%s, mark at %d, sectors of %d: fence at %d, %v", k.Name, m.At, sector, found, err)
				}
			}
		}
	}
}
