package task

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"fundus/core/block"
	"fundus/core/kind"
	"fundus/core/probe/sample"
)

// TestErasedIsGone: samples of two kinds on one device, some of their bytes changed, are
// erased until none of what was recognised is found.
func TestErasedIsGone(t *testing.T) {
	r := rand.New(rand.NewPCG(20417, 2))
	all, seen := sample.All(), 0
	for range 1500 {
		dev := block.NewMemory(256<<20, []block.Geometry{block.DefaultGeometry, {Logical: 4096, Physical: 4096}}[r.IntN(2)])
		for range 2 {
			for at, b := range all[r.IntN(len(all))].Pieces {
				b = bytes.Clone(b)
				for range r.IntN(3) {
					b[r.IntN(len(b))] ^= byte(1 << r.IntN(8))
				}
				if err := block.WriteBytes(dev, b, at); err != nil {
					t.Fatal(err)
				}
			}
		}
		found, err := kind.Probe(dev)
		if err != nil {
			t.Fatal(err)
		}
		seen += len(found)
		if err := EraseSignatures(dev, found); err != nil {
			t.Errorf("%v: %v", found, err)
		}
		if left := ofKinds(dev, found); len(left) > 0 {
			t.Errorf("%v: left are %v", found, left)
		}
	}
	if seen < 1500 {
		t.Errorf("only %d recognised", seen)
	}
}
