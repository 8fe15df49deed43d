package kind

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/progress"
)

// made makes the variant on a device of 64 MiB with one setting given.
func made(t *testing.T, m Maker, sector int64, wishes fs.Wishes) (block.Device, fs.Made) {
	t.Helper()
	dev := block.NewMemory(64<<20, block.Geometry{Logical: 512, Physical: sector})
	order := fs.Order{Label: "seeds", ID: m.ID.Fresh(uuid.New()), Wishes: wishes, Time: time.Unix(1772352000, 0), Fresh: uuid.New}
	got, err := m.Make(t.Context(), dev, order)
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
			for _, s := range m.Settings {
				ends := s.Range[:]
				if len(s.Only) > 0 {
					ends = s.Only
				}
				for _, n := range ends {
					want := fs.Value{Key: s.Key, Word: s.Word(n), By: fs.ByRequest}
					dev, got := made(t, m, 512, fs.Wishes{s.Key: {Word: want.Word, By: fs.ByRequest}})
					there, err := k.Values(dev)
					if !has(got.Values, want) || err != nil || !s.Shapes && !has(there, fs.Value{Key: s.Key, Word: want.Word}) {
						t.Errorf("%s %s=%s: made %v, on the device %v (%v)", m.Word, s.Key, want.Word, got.Values, there, err)
					}
					if len(got.Values) != len(m.Settings) {
						t.Errorf("%s says %d values of %d settings", m.Word, len(got.Values), len(m.Settings))
					}
				}
			}
		}
	}
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
