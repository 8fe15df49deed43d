package kind

import (
	"context"
	"encoding/binary"
	"errors"
	"slices"
	"testing"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/progress"
)

// made makes the variant on a device of 64 MiB with one setting given, or of 2 or 8 TiB where
// that is too small for it; of 8 MiB where the few inodes are asked for that one group has.
func made(t *testing.T, m Maker, sector int64, wishes fs.Wishes) (block.Device, fs.Made) {
	t.Helper()
	usual := int64(64 << 20)
	if wishes["inode-count"].Word == "64" {
		usual = 8 << 20
	}
	dev := block.NewMemory(usual, block.Geometry{Logical: 512, Physical: sector})
	order := fs.Order{Label: "seeds", ID: m.ID.Fresh(uuid.New()), Wishes: wishes, Time: time.Unix(1772352000, 0), Fresh: uuid.New}
	got, err := m.Make(t.Context(), dev, order)
	for _, size := range []int64{2 << 40, 8 << 40} {
		if !errors.Is(err, fs.ErrSetting) {
			break
		}
		dev = block.NewMemory(size, block.Geometry{Logical: 512, Physical: sector})
		got, err = m.Make(t.Context(), dev, order)
	}
	if err != nil {
		t.Fatalf("%s with %v: %v", m.Word, wishes, err)
	}
	label, errLabel := MakerOf(m).Label("seeds")
	list, err := Probe(dev)
	if errLabel != nil || err != nil || len(list) != 1 || list[0].UUID != order.ID.String() || list[0].Label != label || list[0].State != fs.Clean {
		t.Fatalf("%s with %v is taken for %+v: %v", m.Word, wishes, list, err)
	}
	return dev, got
}

// TestSettingsReadBack makes each kind with each of its settings at both ends of its
// range, and finds the value again: in what the maker says, and on the device.
func TestSettingsReadBack(t *testing.T) {
	for _, k := range All() {
		for _, m := range k.Makes {
			for _, s := range m.Settings() {
				for _, word := range ends(s) {
					want := fs.Value{Key: s.Key, Word: word, By: fs.ByRequest}
					dev, got := made(t, m, 512, fs.Wishes{s.Key: {Word: want.Word, By: fs.ByRequest}})
					there, err := k.Values(dev)
					if !has(got.Values, want) || err != nil || !s.Shapes && !has(there, fs.Value{Key: s.Key, Word: want.Word}) {
						t.Errorf("%s %s=%s: made %v, on the device %v (%v)", m.Word, s.Key, want.Word, got.Values, there, err)
					}
					says := len(got.Values) + len(got.Idle)
					if s.Key != fs.ForKey && slices.ContainsFunc(m.Settings(), func(o fs.Setting) bool { return o.Key == fs.ForKey }) {
						says++ // which is nobody in particular
					}
					if says != len(m.Settings()) {
						t.Errorf("%s says %d values of %d settings, and %v shape nothing", m.Word, len(got.Values), len(m.Settings()), got.Idle)
					}
				}
			}
		}
	}
}

// ends are the words at both ends of the range, and the one for none.
func ends(s fs.Setting) (words []string) {
	list := s.Range[:]
	switch {
	case s.Form == fs.Text:
		return []string{s.Nought, "nodelalloc,block_validity"}
	case len(s.Only) > 0:
		list = s.Only
	case s.Form == fs.Part:
		list = []int64{int64(fs.ShareOf(s.Range[0])), int64(fs.ShareOf(s.Range[1])), 1 << 20}
	}
	for _, n := range list {
		words = append(words, s.Word(n))
	}
	if s.Nought != "" && s.Key != "journal" { // ext3 has always one
		words = append(words, s.Nought)
	}
	return words
}

func has(list []fs.Value, want fs.Value) bool {
	for _, v := range list {
		if v == want {
			return true
		}
	}
	return false
}

// TestDevicesHint: what a device makes of a default is said to be of the device.
func TestDevicesHint(t *testing.T) {
	m, err := FindMaker("EXT4")
	if err != nil {
		t.Fatal(err)
	}
	for sector, want := range map[int64]fs.Value{512: {Key: "block", Word: "1KiB", By: fs.ByDefault}, 4096: {Key: "block", Word: "4KiB", By: fs.ByDevice}} {
		if _, got := made(t, m, sector, nil); !has(got.Values, want) {
			t.Errorf("physical sectors of %d: %v", sector, got.Values)
		}
	}
}

// TestMakersWriteLittle: the bytes written are those of the structures that the figures
// tell, and next to none twice: FAT has its reserved sectors, tables and root directory, swap
// the 64 KiB in which other signatures may lie.
func TestMakersWriteLittle(t *testing.T) {
	le := binary.LittleEndian
	for _, c := range []struct {
		word string
		size int64
	}{{"fat", 64 << 10}, {"fat", 1440 << 10}, {"fat", 100 << 20}, {"fat", 32 << 30}, {"fat", 2040 << 30}, {"swap", 1 << 20}, {"swap", 8 << 30}, {"xfs", 64 << 20}, {"xfs", 1 << 40}, {"xfs", 16<<40 + 1<<20}} {
		m, err := FindMaker(c.word)
		if err != nil {
			t.Fatal(err)
		}
		dev := block.NewMemory(c.size, block.DefaultGeometry)
		order := fs.Order{Label: "seeds", ID: m.ID.Fresh(uuid.New()), Time: time.Unix(1772352000, 0), Fresh: uuid.New}
		if _, err := m.Make(t.Context(), dev, order); err != nil {
			t.Fatal(c, err)
		}
		written, want := int64(0), int64(64<<10)
		for i := range dev.Phases() {
			for _, e := range dev.Phase(i) {
				written += e.Len
			}
		}
		if c.word == "fat" {
			b, err := block.ReadSized(dev, 0, 512, 512)
			if err != nil {
				t.Fatal(err)
			}
			table, cluster := int64(le.Uint16(b[22:])), int64(0)
			if table == 0 {
				table, cluster = int64(le.Uint32(b[36:])), int64(b[13])
			}
			want = 512 * (int64(le.Uint16(b[14:])) + int64(b[16])*table + int64(le.Uint16(b[17:]))/16 + cluster)
		}
		if c.word == "xfs" { // four sectors and six trees of each group, 64 inodes, the log
			b, err := block.ReadSized(dev, 0, 512, 512)
			if err != nil {
				t.Fatal(err)
			}
			be := binary.BigEndian
			want = int64(be.Uint32(b[88:]))*(4*512+6*4096) + 64*512 + int64(be.Uint32(b[96:]))*4096
		}
		if ratio := float64(written) / float64(want); ratio > 1.02 || ratio < 1 {
			t.Errorf("%s of %d bytes: %d written for %d: %.3f times", c.word, c.size, written, want, ratio)
		}
	}
}

// TestMakersStop: where the context ends on the way nothing is there that a probe takes
// for the kind, and progress is told.
func TestMakersStop(t *testing.T) {
	for _, m := range Makers() {
		dev := block.NewMemory(64<<30, block.DefaultGeometry)
		ctx, cancel := context.WithCancel(t.Context())
		reports := 0
		order := fs.Order{ID: m.ID.Fresh(uuid.New()), Time: time.Unix(1772352000, 0), Fresh: uuid.New, Sink: func(progress.Report) { reports++; cancel() }}
		_, err := m.Make(ctx, dev, order)
		if reports == 0 || !errors.Is(err, context.Canceled) {
			t.Errorf("%s: %d reports, %v", m.Word, reports, err)
		}
		if list, err := Probe(dev); err != nil || len(list) != 0 {
			t.Errorf("%s: what was begun is taken for %v (%v)", m.Word, list, err)
		}
	}
}

// TestWhatIsRoundedIsSaid: where a value has to become another one, what is made is said, and
// stands on the device.
func TestWhatIsRoundedIsSaid(t *testing.T) {
	for _, c := range []struct{ word, key, asked, made string }{{"fat", "root-entries", "17", "32"}, {"fat", "root-entries", "512", "512"}, {"ext4", "inode-count", "70", "128"}} {
		m, err := FindMaker(c.word)
		if err != nil {
			t.Fatal(err)
		}
		dev, got := made(t, m, 512, fs.Wishes{c.key: {Word: c.asked, By: fs.ByRequest}})
		there, err := MakerOf(m).Values(dev)
		if err != nil || !has(got.Values, fs.Value{Key: c.key, Word: c.made, By: fs.ByRequest}) || !has(there, fs.Value{Key: c.key, Word: c.made}) {
			t.Errorf("%s %s=%s: said %v, on the device %v, %v", c.word, c.key, c.asked, got.Values, there, err)
		}
	}
}
