package deed

import (
	"context"
	"slices"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/internal/draft"
)

// Former gives the strokes of a finished deed for taking them back: for each of them
// what was there before, and for all of them what must be there now.
type Former struct {
	deed          *Deed
	after, before *imageReader
}

// OpenFormer opens the images of a deed.
func (d *Deed) OpenFormer() (*Former, error) {
	if err := d.open(); err != nil {
		return nil, err
	}
	x := &executor{deed: d}
	var err error
	if x.after, err = newImageReader(d.dir + "/after.img"); err != nil {
		return nil, err
	}
	if x.before, err = newImageReader(d.dir + "/before.img"); err != nil {
		x.closeFiles()
		return nil, err
	}
	return &Former{d, x.after, x.before}, nil
}

// Close lets the images go.
func (f *Former) Close() {
	f.after.close()
	f.before.close()
}

// Back calls the function with the bytes from before each stroke of a step, the newest
// first, but for those that only lifted its fence: what lay beneath is restored by those
// that set it. The data of a run of zeros is nil. Behind each stroke it calls ended.
func (f *Former) Back(step int, each func(off, n int64, data []byte) error, ended func() error) error {
	for _, s := range slices.Backward(f.deed.Strokes) {
		if s.Step != step || s.Bytes.Role == draft.LiftFence {
			continue
		}
		for _, r := range f.deed.runs[s.Bytes.Before[0]:s.Bytes.Before[1]] {
			var data []byte
			if !r.Zero {
				var err error
				if data, err = f.before.read(r); err != nil {
					return err
				}
			}
			if err := each(r.Off, r.Len, data); err != nil {
				return err
			}
		}
		if err := ended(); err != nil {
			return err
		}
	}
	return nil
}

// Wrote reports whether a stroke of the deed wrote the byte of a device, which is named as
// the deed has it.
func (f *Former) Wrote(device string, at int64) bool {
	for i, s := range f.deed.Strokes {
		on, spans := carrierOf(f.deed.stepOf(i)).covers(f.deed, s)
		if on == device && slices.ContainsFunc(spans, extent.Span{Start: uint64(at), Count: 1}.Overlaps) {
			return true
		}
	}
	return false
}

// Changed compares the device with what the step left behind, run by run, and gives the
// first byte that is another one, or -1.
func (f *Former) Changed(ctx context.Context, dev block.Device, step int) (int64, error) {
	var all []known
	for i, s := range f.deed.Strokes {
		if s.Step == step {
			for _, r := range f.deed.runs[s.Bytes.After[0]:s.Bytes.After[1]] {
				all = append(all, known{r, f.after, i})
			}
		}
	}
	return sweep(ctx, dev, all, true)
}
