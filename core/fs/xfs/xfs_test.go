package xfs

import (
	"bytes"
	"encoding/binary"
	"errors"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/fs"
	"fundus/core/quantity"
)

func made(t testing.TB, size int64, wishes fs.Wishes) block.Device {
	t.Helper()
	dev := block.NewMemory(size, block.DefaultGeometry)
	order := fs.Order{Label: "moss", ID: fs.Wide.Fresh(uuid.New()), Wishes: wishes, Time: time.Unix(1772352000, 0), Fresh: uuid.New}
	if _, err := MakeOrder(t.Context(), dev, order); err != nil {
		t.Fatal(err)
	}
	return dev
}

// TestPlacesDoNotOverlap: for devices of every size and settings of every kind, what a layout
// places lies within its group, apart from all else, and what is left is what it calls free.
func TestPlacesDoNotOverlap(t *testing.T) {
	rng, planned := rand.New(rand.NewPCG(18, 1)), 0
	pick := func(list ...quantity.Bytes) quantity.Bytes { return list[rng.IntN(len(list))] }
	for range 20000 {
		o := Options{Block: pick(1024, 2048, 4096), Sector: pick(0, 512, 4096), Inode: pick(512, 1024, 2048), LogUnit: pick(0, 0, 4096, 32<<10, 256<<10), Unit: pick(0, 0, 4096, 12<<10, 64<<10, 1<<20), InodeShare: -1,
			FreeInodeTree: rng.IntN(2) == 0, SparseInodes: rng.IntN(2) == 0, ReverseMap: rng.IntN(2) == 0, SharedBlocks: rng.IntN(2) == 0, Groups: int64(pick(0, 0, 1, 3, 9))}
		o.Width = o.Unit * quantity.Bytes(1+rng.IntN(5))
		size := quantity.Bytes(64<<20 + rng.Int64N(int64(pick(1<<20, 1<<30, 1<<40, 20<<40))))
		l, err := Plan(size, block.Geometry{Logical: 512, Physical: int64(pick(512, 4096))}, o)
		if err != nil {
			if !errors.Is(err, fs.ErrSetting) {
				t.Fatalf("%d bytes, %+v: %v", size, o, err)
			}
			continue
		}
		planned++
		free := uint64(0)
		for group := range l.Groups {
			if group > 3 && group != l.LogGroup && group != l.Groups-1 { // the others are as the second
				free += l.sizeOf(1) - l.fixed - l.list
				continue
			}
			at := uint64(0)
			used := l.used(group)
			slices.SortFunc(used, func(a, b extent.Span) int { return int(int64(a.Start) - int64(b.Start)) })
			for _, s := range used {
				if s.Start < at || s.End() > l.sizeOf(group) {
					t.Fatalf("%d bytes, %+v: group %d of %d blocks: %v", size, o, group, l.sizeOf(group), used)
				}
				at = s.End()
			}
			for _, s := range l.free(group) {
				free += s.Count
			}
		}
		if free+l.list*l.Groups != l.Free() || l.Blocks > uint64(size/l.Block) || l.chunkAt%l.inodeAlign() != 0 || l.unit > 0 && l.Groups > 1 && l.GroupBlocks%l.unit != 0 {
			t.Fatalf("%d bytes, %+v: free %d, said %d: %+v", size, o, free+l.list*l.Groups, l.Free(), l)
		}
	}
	if planned < 5000 {
		t.Errorf("only %d layouts", planned)
	}
}

// TestHistory: when it was made is read back in either form of a time.
func TestHistory(t *testing.T) {
	for _, late := range []string{"yes", "no"} {
		c, err := Probe(made(t, 300<<20, fs.Wishes{"late-times": {Word: late, By: fs.ByRequest}}))
		if err != nil || !slices.ContainsFunc(c.Facts, func(f fs.Fact) bool {
			return f.Name == "history" && strings.HasPrefix(f.Value, "made 2026-03-01 08:00:00 UTC;")
		}) {
			t.Errorf("late-times=%s: %+v, %v", late, c, err)
		}
	}
}

// TestLabelIsInEveryCopy: of each group, and nowhere else; a stale copy stays as it is; and
// what has to be replayed first, or is not known, is refused and stays.
func TestLabelIsInEveryCopy(t *testing.T) {
	dev := made(t, 300<<20, nil)
	v, err := open(dev)
	if err != nil {
		t.Fatal(err)
	}
	first, err := block.ReadSized(dev, 2*v.group+int64(uuidAt), 1, 1)
	if err == nil {
		err = block.WriteBytes(dev, []byte{^first[0]}, 2*v.group+int64(uuidAt)) // of another file system
	}
	if err != nil {
		t.Fatal(err)
	}
	for _, label := range []string{"", "ferns", "twelve bytes"} {
		if err := SetLabel(dev, label); err != nil {
			t.Fatal(err)
		}
		for group := range v.count {
			b, err := block.ReadSized(dev, group*v.group, 512, 512)
			got := string(bytes.TrimRight(b[labelAt:labelAt+labelSize], "\x00"))
			if want := map[bool]string{true: "moss", false: label}[group == 2]; err != nil || got != want || group != 2 && !sealed(b, checksum) {
				t.Errorf("group %d says %q, want %q (%v)", group, got, want, err)
			}
		}
	}
	if err := SetLabel(dev, "thirteen byte"); !errors.Is(err, fs.ErrLabel) {
		t.Errorf("too long: %v", err)
	}
	for what, spoil := range map[string]func(v *volume) error{
		"a log to be replayed": func(v *volume) error { return block.WriteBytes(v.dev, []byte{0}, v.log+512+9) },
		"a log behind its end": func(v *volume) error { return block.WriteBytes(v.dev, []byte{0, 0, 0, 1}, v.log+1024) },
		"an unknown feature": func(v *volume) error {
			return v.eachSuper(func(b []byte) { binary.BigEndian.PutUint32(b[216:], 0x40000003) })
		},
		"it needs to be repaired": func(v *volume) error {
			return v.eachSuper(func(b []byte) { binary.BigEndian.PutUint32(b[216:], 0x1B) })
		},
	} {
		dev := made(t, 64<<20, nil)
		v, err := open(dev)
		if err == nil {
			err = spoil(v)
		}
		if err != nil {
			t.Fatal(err)
		}
		if err := SetLabel(dev, "ferns"); err == nil {
			t.Errorf("%s: labelled", what)
		}
		if c, err := Probe(dev); err != nil || c == nil || c.Label != "moss" {
			t.Errorf("%s: %+v, %v", what, c, err)
		}
	}
}

// TestIdentifierChanges: the log begins anew in the next round, the metadata keep theirs, and
// what was changed twice is as open as before.
func TestIdentifierChanges(t *testing.T) {
	dev := made(t, 64<<20, fs.Wishes{"log-unit": {Word: "256KiB", By: fs.ByRequest}})
	first, err := open(dev)
	if err != nil {
		t.Fatal(err)
	}
	for round := uint32(2); round < 5; round++ {
		id := uuid.New()
		if err := SetUUID(dev, id); err != nil {
			t.Fatal(err)
		}
		v, err := open(dev)
		if err != nil {
			t.Fatal(err)
		}
		end, err := v.readLog()
		if err != nil || !end.clean || end.cycle != round || v.uuid() != id || v.meta() != first.uuid() || end.head != 512 {
			t.Errorf("round %d: %+v, %v, %v within (%v)", round, end, v.uuid(), v.meta(), err)
		}
	}
}

// FuzzReaders: whatever lies there, nothing panics or takes long, and what is not refused has
// bounds.
func FuzzReaders(f *testing.F) {
	for _, wishes := range []fs.Wishes{nil, {"block": {Word: "1KiB"}}, {"log-unit": {Word: "64KiB"}}} {
		dev := made(f, 64<<20, wishes)
		b, err := block.ReadSized(dev, 0, 512, 512)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(b, uint32(88), uint32(0xFFFFFFFF), uint32(512))
		f.Add(b, uint32(48), uint32(0x7FFFFFFF), uint32(1))
	}
	f.Fuzz(func(t *testing.T, super []byte, at, value, word uint32) {
		dev := block.NewMemory(64<<20, block.DefaultGeometry)
		b := make([]byte, 512)
		copy(b, super)
		binary.BigEndian.PutUint32(b[at%500:], value)
		copy(b, magic)
		err := block.WriteBytes(dev, seal(b, checksum), 0)
		for i := range int64(64) { // something like a log
			err = errors.Join(err, block.WriteBytes(dev, binary.BigEndian.AppendUint32(nil, word+uint32(i)), i<<20+32<<10))
		}
		if err != nil {
			t.Fatal(err)
		}
		c, err := Probe(dev)
		if err != nil || c == nil {
			t.Fatal(c, err)
		}
		if _, err := Fields(dev); err != nil {
			t.Fatal(err)
		}
		_, _, _ = Copies(dev)
		_, _ = Values(dev)
		_ = SetLabel(dev, "ferns")
	})
}
