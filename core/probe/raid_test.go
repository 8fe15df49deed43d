package probe

import (
	"encoding/binary"
	"testing"

	"fundus/core/block"
	"fundus/core/fs"
)

// image is a device in memory with bytes at some places.
func image(t *testing.T, size int64, pieces map[int64][]byte) block.Device {
	t.Helper()
	dev := block.NewMemory(size, block.DefaultGeometry)
	for at, b := range pieces {
		if err := block.WriteBytes(dev, b, at); err != nil {
			t.Fatal(err)
		}
	}
	return dev
}

// raidSuper is a superblock of version 1 for the byte that it lies at.
func raidSuper(at int64) []byte {
	b := make([]byte, 512)
	le := binary.LittleEndian
	le.PutUint32(b[0:], 0xa92b4efc)
	le.PutUint32(b[4:], 1)
	copy(b[16:], "fernhill-array-1")
	copy(b[32:], "fernhill:herbarium")
	le.PutUint32(b[72:], 1)
	le.PutUint64(b[80:], 2048)
	le.PutUint32(b[92:], 2)
	le.PutUint64(b[144:], uint64(at/512))
	le.PutUint32(b[220:], 128)
	le.PutUint32(b[216:], raidChecksum(b))
	return b
}

// TestRaid: each version is found in its place alone, and a wrong checksum is
// damage.
func TestRaid(t *testing.T) {
	const size = 1<<20 + 3<<10
	old := make([]byte, 4096)
	for at, v := range map[int]uint32{0: 0xa92b4efc, 8: 90, 20: 0x11223344, 28: 5, 32: 1024, 40: 3, 52: 0x55667788, 56: 0x99aabbcc, 60: 0xddeeff00} {
		binary.BigEndian.PutUint32(old[at:], v)
	}
	binary.BigEndian.PutUint32(old[152:], oldChecksum(old, binary.BigEndian))
	const end = 1 << 20 // (1027 KiB - 8 KiB) on 4 KiB is 1016 KiB; see below
	last := int64((size/512-16)&^7) * 512
	for version, c := range map[string]struct {
		at   int64
		data []byte
		uuid string
		size int64
	}{
		"1.2":  {4096, raidSuper(4096), "6665726e-6869-6c6c-2d61-727261792d31", 1 << 20},
		"1.1":  {0, raidSuper(0), "6665726e-6869-6c6c-2d61-727261792d31", 1 << 20},
		"1.0":  {last, raidSuper(last), "6665726e-6869-6c6c-2d61-727261792d31", 1 << 20},
		"0.90": {end - 64<<10, old, "11223344-5566-7788-99aa-bbccddeeff00", 1 << 20},
	} {
		got, err := Raid(image(t, size, map[int64][]byte{c.at: c.data}))
		if err != nil || got == nil {
			t.Fatalf("%s: %v, %v", version, got, err)
		}
		if got.Version != version || got.UUID != c.uuid || int64(got.Size) != c.size || got.State != fs.Clean || got.Signatures[0].Start != uint64(c.at) || got.Class != fs.Member {
			t.Errorf("%s: %+v", version, got)
		}
		if moved, err := Raid(image(t, size, map[int64][]byte{c.at + 8192: c.data})); version != "0.90" && (moved != nil || err != nil) {
			t.Errorf("%s in a wrong place: %+v, %v", version, moved, err)
		}
		c.data[300]++
		if torn, _ := Raid(image(t, size, map[int64][]byte{c.at: c.data})); torn == nil || torn.State != fs.Damaged {
			t.Errorf("%s torn: %+v", version, torn)
		}
	}
	if none, err := Raid(image(t, 4096, nil)); none != nil || err != nil {
		t.Errorf("nothing: %+v, %v", none, err)
	}
}
