package fence

import (
	"bytes"
	"errors"
	"strings"
	"testing"

	"fundus/core/block"
	"fundus/core/block/field"
)

func TestFenceIsFoundAndNamesItsDeed(t *testing.T) {
	want := Fence{"20260301-081500-ab12cd34", "/srv/bench/state", "Larkspur S300 LS-20417, 64 GiB", "fundus recover 20260301-081500-ab12cd34"}
	for _, at := range []int64{0, 1024, 3584} {
		dev := block.NewMemory(1<<20, block.DefaultGeometry)
		if err := block.WriteBytes(dev, Encode(want), at); err != nil {
			t.Fatal(err)
		}
		got, found, err := Find(dev)
		if err != nil || got == nil || *got != want || found != at {
			t.Errorf("at %d: %+v at %d, %v", at, got, found, err)
		}
	}
	if f, _, err := Find(block.Zero{Bytes: 1024, Geo: block.DefaultGeometry}); f != nil || err != nil {
		t.Errorf("a blank device: %v, %v", f, err)
	}
}

func TestDamagedFenceIsNamed(t *testing.T) {
	b := Encode(Fence{Deed: "d"})
	b[40] ^= 1
	if _, err := Decode(b); !errors.Is(err, field.ErrChecksum) {
		t.Errorf("Decode = %v", err)
	}
	if b[510] != 0 || b[511] != 0 {
		t.Error("a fence could be taken for a boot sector")
	}
}

// FuzzFence: whatever the values, a fence is read back as the values without
// control characters, cut to their longest; and any block is read safely.
func FuzzFence(f *testing.F) {
	f.Add("deed", "/var/lib/fundus", "sdb", []byte(first))
	f.Add("d\ncommand: rm", strings.Repeat("x", 400), "", Encode(Fence{Deed: "d"}))
	f.Fuzz(func(t *testing.T, deed, store, device string, raw []byte) {
		b := Encode(Fence{deed, store, device, "fundus recover"})
		got, err := Decode(b)
		if err != nil || got.Command != "fundus recover" {
			t.Fatalf("%+v, %v", got, err)
		}
		if again := Encode(*got); len(deed) < longest && len(store) < longest && len(device) < longest && !bytes.Equal(again, b) {
			t.Fatalf("not the same again: %q", b)
		}
		_, _ = Decode(raw)
	})
}
