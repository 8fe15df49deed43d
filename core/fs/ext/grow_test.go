package ext

import (
	"encoding/binary"
	"errors"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/quantity"
)

// TestGrowOdd grows file systems of which bytes were turned round and sealed again: it is
// refused, or what comes out says that it has the size that was foretold, and nothing ends the
// program or goes on for ever.
func TestGrowOdd(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 9))
	grown, refused := 0, 0
	for i := range 400 {
		o := Usual(Ext2+Variant(i%3)).With("", uuid.UUID{1}, time.Unix(1.7e9, 0))
		o.BlockSize, o.Growth = 1024, int64(1+i%5)
		mem := block.NewMemory(120<<20, block.DefaultGeometry)
		part, err := block.NewSlice(mem, 0, int64(10+i%9)<<20)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := Make(t.Context(), part, o); err != nil {
			t.Fatal(err)
		}
		s, err := Read(mem)
		if err != nil {
			t.Fatal(err)
		}
		raw := field.Encode(binary.LittleEndian, &s.disk)
		for range r.IntN(4) {
			raw[r.IntN(len(raw))] ^= byte(1 << r.IntN(8))
		}
		if err := errors.Join(field.Decode(raw, binary.LittleEndian, &s.disk), block.WriteBytes(mem, s.sealed(), superOffset)); err != nil {
			t.Fatal(err)
		}
		if i%2 == 0 { // descriptors, the resize inode and its map
			off := 2048 + int64(r.IntN(400<<10))
			if err := block.WriteBytes(mem, []byte{byte(r.Uint32())}, off); err != nil {
				t.Fatal(err)
			}
		}
		want := quantity.Bytes(11+r.IntN(109)) << 20
		got, err := Grow(t.Context(), mem, want, nil)
		if err != nil {
			refused++
			continue
		}
		after, err := Read(mem)
		if err != nil || after.Size() != got || got > want {
			t.Fatalf("%d: grown to %v of %v, it says %v: %v", i, got, want, after, err)
		}
		grown++
	}
	if grown < 100 || refused < 20 {
		t.Errorf("%d grown, %d refused: too few of one to show anything", grown, refused)
	}
}

// TestGrowManyCopies: with a copy of the superblock in every group there are more of them than
// the lists of what is kept have places for, which is refused.
func TestGrowManyCopies(t *testing.T) {
	o := Usual(Ext4).With("", uuid.UUID{1}, time.Unix(1.7e9, 0))
	o.BlockSize = 1024
	mem := block.NewMemory(300*8<<20, block.DefaultGeometry)
	part, err := block.NewSlice(mem, 0, 298*8<<20)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Make(t.Context(), part, o); err != nil {
		t.Fatal(err)
	}
	s, err := Read(mem)
	if err != nil {
		t.Fatal(err)
	}
	s.disk.RO &^= roSparseSuper
	if err := block.WriteBytes(mem, s.sealed(), superOffset); err != nil {
		t.Fatal(err)
	}
	if _, err := Grow(t.Context(), mem, 300*8<<20, nil); !errors.Is(err, ErrGrow) {
		t.Errorf("Grow = %v", err)
	}
}
