package block

import (
	"bytes"
	"errors"
	"io"
	"math/rand/v2"
	"testing"
)

// TestEndsReadAlike: through Ends, every read gives what the device gives.
func TestEndsReadAlike(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 1))
	for _, size := range []int64{512, 8 << 10, endsHead, endsHead + 512, 1 << 20} {
		dev := NewMemory(size, DefaultGeometry)
		content := make([]byte, size)
		for i := range content {
			content[i] = byte(rng.Uint32())
		}
		if err := WriteBytes(dev, content, 0); err != nil {
			t.Fatal(err)
		}
		e := NewEnds(dev)
		for range 2000 {
			off := rng.Int64N(size + 600)
			n := rng.IntN(int(min(size, 5000))) + 1
			a, b := make([]byte, n), make([]byte, n)
			gotA, errA := e.ReadAt(a, off)
			gotB, errB := dev.ReadAt(b, off)
			if gotA != gotB || !bytes.Equal(a, b) || (errA == nil) != (errB == nil) || errors.Is(errA, io.EOF) != errors.Is(errB, io.EOF) {
				t.Fatalf("size %d, %d bytes at %d: %d %v, the device %d %v", size, n, off, gotA, errA, gotB, errB)
			}
		}
	}
}
