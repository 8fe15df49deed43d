package ext

import (
	"crypto/sha256"
	"fmt"
	"testing"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/quantity"
)

// TestGoldenImages: what is made of the same options is the same, byte for byte, however
// the code that makes it changes. The digests are over the bytes that are not zeros, with
// their places.
func TestGoldenImages(t *testing.T) {
	for _, c := range []struct {
		size     quantity.Bytes
		sector   int64
		block    quantity.Bytes
		reserved int64 // tenths of a percent
		label    string
		want     string
	}{
		{256 << 10, 512, 0, 0, "", "3725c78fec40677a"},
		{2 << 20, 512, 0, 0, "seeds", "d87aee7333abf2c7"},
		{30 << 20, 512, 1024, 50, "", "f18f1b4150d59f18"},
		{30 << 20, 4096, 0, 50, "", "70e8af82662cdc82"},
		{300<<20 + 512, 512, 2048, 5, "", "2b2e42edaa275c6a"},
		{600 << 20, 512, 0, 50, "herbarium", "ecf53a0ade4c210e"},
		{4 << 30, 512, 0, 500, "", "635c4c045de7eb93"},
		{20<<30 + 12345*512, 512, 1024, 0, "", "f8899ae5498edf70"},
		{1 << 40, 4096, 0, 10, "archive", "da8fcc3e6cc85697"},
		{20 << 40, 512, 0, 50, "", "490d4e87a3243523"},
	} {
		dev := block.NewMemory(int64(c.size), block.Geometry{Logical: c.sector, Physical: c.sector})
		o := Usual(Ext4)
		o.BlockSize, o.Label, o.Reserved, o.ReservedMost = c.block, c.label, fs.ShareOf(c.reserved), 0
		o.UUID, o.HashSeed, o.JournalUUID = uuid.UUID{1, 2, 3}, uuid.UUID{4, 5, 6}, uuid.UUID{7, 8, 9}
		o.FirstSequence, o.Time = 77, time.Unix(1772352000, 0)
		if _, err := Make(t.Context(), dev, o); err != nil {
			t.Fatal(c.size, err)
		}
		h := sha256.New()
		for off := int64(0); off < dev.Size(); {
			_, end, hole, err := dev.Next(off)
			if err != nil {
				t.Fatal(err)
			}
			for !hole && off < end {
				n := min(end-off, 1<<20)
				b, err := block.ReadSized(dev, off, n, n)
				if err != nil {
					t.Fatal(err)
				}
				for len(b) > 0 {
					piece := b[:min(512, len(b))]
					if !block.IsZero(piece) {
						fmt.Fprintf(h, "%d %x\n", off, piece)
					}
					b, off = b[len(piece):], off+int64(len(piece))
				}
			}
			off = end
		}
		if got := fmt.Sprintf("%x", h.Sum(nil)[:8]); got != c.want {
			t.Errorf("%v on sectors of %d: %s, want %s", c.size, c.sector, got, c.want)
		}
	}
}
