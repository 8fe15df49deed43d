package block

import (
	"math/rand/v2"
	"testing"
)

// TestBlank: zeros are blank, however they are stored; whatever is written where a table,
// a superblock or a run of data begins is not, and what cannot be read is not either.
func TestBlank(t *testing.T) {
	const size = 512 << 20
	if !Blank(NewMemory(size, DefaultGeometry)) || !Blank(NewMemory(1<<20, DefaultGeometry)) {
		t.Error("zeros are not blank")
	}
	rng := rand.New(rand.NewPCG(1, 2))
	for _, at := range []int64{0, 1024, 63 * 512, 1<<20 + 1080, 2 << 20, size - 512, size - 33*512, rng.Int64N(size), rng.Int64N(size)} {
		dev := NewMemory(size, DefaultGeometry)
		if err := WriteBytes(dev, []byte{1}, at); err != nil {
			t.Fatal(err)
		}
		if Blank(dev) {
			t.Errorf("a byte at %d is not seen", at)
		}
	}
	dev := NewMemory(size, DefaultGeometry)
	if err := WriteBytes(dev, make([]byte, 4096), size/2); err != nil || !Blank(dev) {
		t.Errorf("zeros that were written are not blank: %v", err)
	}
	if Blank(NewFaulty(dev, Fault{FailAt: Never, CutAt: Never, ReadErrorAt: size / 2})) {
		t.Error("what cannot be read is blank")
	}
}
