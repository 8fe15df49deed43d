package kind

import (
	"crypto/sha256"
	"encoding/binary"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/fs"
)

var update = flag.Bool("update", false, "rewrite what is made")

// recipe is what something is made of.
type recipe struct {
	word     string
	size     int64
	sector   int64
	label    string
	settings string
}

// recipes are the corners of each maker: its smallest, its variants, other sectors and blocks.
func recipes() []recipe {
	const mib, gib = 1 << 20, 1 << 30
	return []recipe{
		{"fat", 1 * mib, 512, "CARD", ""}, {"fat", 40 * mib, 512, "", "bits=16"}, {"fat", 64 * mib, 4096, "FIELD REC", ""}, {"fat", 600 * mib, 512, "SCANS", ""}, {"fat", 600 * mib, 512, "", "bits=32 tables=1"},
		{"swap", 1 * mib, 512, "", ""}, {"swap", 64 * mib, 512, "rest", ""}, {"swap", 64 * mib, 4096, "rest", "page=64KiB"},
		{"xfs", 300 * mib, 512, "scans", ""}, {"xfs", 400 * mib, 4096, "", ""}, {"xfs", 40 * gib, 512, "archive", ""}, {"xfs", 400 * mib, 512, "", "inode-size=512B block=1KiB"},
		{"ext2", 64 * mib, 512, "mosses", ""}, {"ext3", 64 * mib, 512, "seeds", "inode-size=128B"}, {"ext4", 64 * mib, 512, "seeds", ""}, {"ext4", 600 * mib, 4096, "herbarium", ""}, {"ext4", 40 * gib, 512, "archive", "tables=full"},
	}
}

// spot is a number on the device, by the offset that the source of the format gives it.
type spot struct {
	at, width int64
	name      string
}

// spots are some of each kind, most significant byte first for xfs alone.
func spots(word string) []spot {
	switch word {
	case "fat":
		return []spot{{0, 1, "jump"}, {11, 2, "bytes of a sector"}, {13, 1, "sectors of a cluster"}, {14, 2, "reserved sectors"}, {16, 1, "tables"}, {17, 2, "root entries"}, {19, 2, "sectors, short"}, {21, 1, "medium"}, {22, 2, "sectors of a table"}, {24, 2, "sectors of a track"}, {26, 2, "heads"}, {28, 4, "hidden sectors"}, {32, 4, "sectors"}, {36, 4, "sectors of a table, long, or drive"}, {40, 2, "flags"}, {42, 2, "version"}, {44, 4, "root cluster"}, {48, 2, "information sector"}, {50, 2, "second boot sector"}, {510, 2, "signature"}}
	case "swap":
		return []spot{{1024, 4, "version"}, {1028, 4, "last page"}, {1032, 4, "bad pages"}, {1036, 8, "UUID, first half"}, {1044, 8, "UUID, second half"}, {1052, 8, "label, first half"}, {1060, 8, "label, second half"}, {4086, 8, "signature in a page of 4 KiB"}, {4094, 2, "and its end"}, {65526, 8, "signature in one of 64 KiB"}, {65534, 2, "and its end"}, {0, 8, "boot sector"}, {510, 2, "its signature"}, {512, 8, "behind it"}, {1000, 8, "before the header"}, {1068, 8, "padding"}, {1536, 8, "bad page list"}, {1540, 8, "and on"}, {2048, 8, "and on"}, {4080, 4, "before the signature"}}
	case "xfs":
		return []spot{{0, 4, "magic"}, {4, 4, "block"}, {8, 8, "blocks"}, {48, 8, "log's block"}, {56, 8, "root inode"}, {64, 8, "bitmap inode"}, {72, 8, "summary inode"}, {80, 4, "real-time extent"}, {84, 4, "blocks of a group"}, {88, 4, "groups"}, {96, 4, "blocks of the log"}, {100, 2, "version"}, {102, 2, "sector"}, {104, 2, "inode"}, {106, 2, "inodes of a block"}, {128, 8, "inodes"}, {136, 8, "free inodes"}, {144, 8, "free blocks"}, {200, 4, "features 2"}, {216, 4, "incompatible"}}
	}
	const at = 1024
	return []spot{{at, 4, "inodes"}, {at + 4, 4, "blocks"}, {at + 8, 4, "reserved"}, {at + 12, 4, "free blocks"}, {at + 16, 4, "free inodes"}, {at + 20, 4, "first block"}, {at + 24, 4, "block, as a power"}, {at + 32, 4, "blocks of a group"}, {at + 40, 4, "inodes of a group"}, {at + 56, 2, "magic"}, {at + 58, 2, "state"}, {at + 60, 2, "on errors"}, {at + 76, 4, "revision"}, {at + 84, 4, "first inode"}, {at + 88, 2, "inode"}, {at + 92, 4, "compatible"}, {at + 96, 4, "incompatible"}, {at + 100, 4, "read-only compatible"}, {at + 206, 2, "descriptor blocks to grow"}, {at + 254, 2, "descriptor"}, {at + 372, 1, "flexible group, as a power"}}
}

// make makes it, with all that is drawn fixed.
func (r recipe) make(t *testing.T) block.Device {
	t.Helper()
	m, err := FindMaker(r.word)
	if err != nil {
		t.Fatal(err)
	}
	dev := block.NewMemory(r.size, block.Geometry{Logical: r.sector, Physical: r.sector})
	n := byte(0)
	fresh := func() uuid.UUID { n++; return uuid.UUID{n, 0x5e, 0xed, 0, 0, 0, 0x40, 0, 0x80, 15: n} }
	wishes := fs.Wishes{}
	for word := range strings.FieldsSeq(r.settings) {
		key, value, _ := strings.Cut(word, "=")
		wishes[key] = fs.Wish{Word: value, By: fs.ByRequest}
	}
	if _, err := m.Make(t.Context(), dev, fs.Order{Label: r.label, ID: m.ID.Fresh(fresh()), Wishes: wishes, Time: time.Unix(1772352000, 0), Fresh: fresh}); err != nil {
		t.Fatalf("%+v: %v", r, err)
	}
	return dev
}

// describe is the recipe with each stored piece of the device as a digest, and the numbers.
func (r recipe) describe(t *testing.T, dev block.Device) string {
	t.Helper()
	const most = 64 << 10 // bytes of a piece, so that a difference has a place
	var b strings.Builder
	fmt.Fprintf(&b, "%s of %d MiB on sectors of %d, label %q %s\n", r.word, r.size>>20, r.sector, r.label, r.settings)
	all, pieces := sha256.New(), 0
	for off := int64(0); off < dev.Size(); {
		_, end, hole, err := dev.Next(off)
		if err != nil {
			t.Fatal(err)
		}
		if end = min(end, (off/most+1)*most); !hole {
			p, err := block.ReadSized(dev, off, end-off, most)
			if err != nil {
				t.Fatal(err)
			}
			if !block.IsZero(p) {
				for pieces++; len(p) > 0 && p[len(p)-1] == 0; p = p[:len(p)-1] { // where a hole begins is not told
				}
				fmt.Fprintf(all, "%d %x\n", off, p)
				if pieces <= 12 {
					fmt.Fprintf(&b, "  from %-10d %x\n", off, sha256.Sum256(p))
				}
			}
		}
		off = end
	}
	fmt.Fprintf(&b, "  %d pieces      %x\n", pieces, all.Sum(nil))
	order := binary.ByteOrder(binary.LittleEndian)
	if r.word == "xfs" {
		order = binary.BigEndian
	}
	for _, s := range spots(r.word) {
		p := make([]byte, r.sector)
		if _, err := dev.ReadAt(p, s.at/r.sector*r.sector); err != nil {
			t.Fatal(err)
		}
		wide := make([]byte, 8)
		if p = p[s.at%r.sector:][:s.width]; r.word == "xfs" {
			copy(wide[8-s.width:], p)
		} else {
			copy(wide, p)
		}
		fmt.Fprintf(&b, "  byte %-6d %-36s %d\n", s.at, s.name, order.Uint64(wide))
	}
	return b.String()
}

// TestWhatIsMade: of the same recipe the same is made, byte for byte, however the code that
// makes it changes; some numbers stand there as the format's source places them. A wrong byte
// in any structure is found here, and not by a kernel minutes later.
func TestWhatIsMade(t *testing.T) {
	path := filepath.Join("testdata", "made.txt")
	var got strings.Builder
	for _, r := range recipes() {
		got.WriteString(r.describe(t, r.make(t)) + "\n")
	}
	if *update {
		if err := os.WriteFile(path, []byte(got.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	have, kept := strings.Split(got.String(), "\n"), strings.Split(string(want), "\n")
	heading := ""
	for i := range max(len(have), len(kept)) {
		if i < len(have) && !strings.HasPrefix(have[i], " ") {
			heading = have[i]
		}
		if i >= len(have) || i >= len(kept) || have[i] != kept[i] {
			t.Fatalf("line %d, %s:\n%s\nwas\n%s", i+1, heading, strings.Join(have[min(i, len(have)):min(i+1, len(have))], ""), strings.Join(kept[min(i, len(kept)):min(i+1, len(kept))], ""))
		}
	}
}

// TestAWrongByteIsFound: one byte turned over in each structure that the fields of a kind
// know makes another description.
func TestAWrongByteIsFound(t *testing.T) {
	structures := 0
	for _, r := range recipes() {
		if r.size > 1<<30 {
			continue
		}
		dev := r.make(t)
		want := r.describe(t, dev)
		list, err := Fields(dev)
		if err != nil {
			t.Fatal(err)
		}
		for _, s := range list {
			f := s.Fields[len(s.Fields)/2]
			turned := append([]byte{f.Raw[0] ^ 0x40}, f.Raw[1:]...)
			over := block.NewOverlay(dev, block.Spill{})
			if err := block.WriteBytes(over, turned, f.At); err != nil {
				t.Fatal(err)
			}
			if structures++; r.describe(t, over) == want {
				t.Errorf("%+v: %s: a wrong byte at %d is not seen", r, s.Name, f.At)
			}
		}
	}
	if structures < 40 {
		t.Errorf("only %d structures", structures)
	}
}
