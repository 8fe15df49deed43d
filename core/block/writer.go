package block

import "context"

// Writer writes one structure after the other, and keeps the first error: whoever lays out
// many of them asks once, at the end. The end of the context is one.
type Writer struct {
	ctx context.Context
	dev Device
	err error
}

// NewWriter makes a writer on the device.
func NewWriter(ctx context.Context, dev Device) *Writer { return &Writer{ctx: ctx, dev: dev} }

// Put gives bytes away to the device, as Give does.
func (w *Writer) Put(p []byte, at int64) {
	w.do(func() error { return Give(w.dev, p, at) })
}

// Zero makes n bytes read as zeros; none for n of 0 and less.
func (w *Writer) Zero(at, n int64) {
	if n > 0 {
		w.do(func() error { return w.dev.WriteZeroes(at, n) })
	}
}

// Sync waits until all of that is on the device.
func (w *Writer) Sync() { w.do(w.dev.Sync) }

// Err is the first error.
func (w *Writer) Err() error { return w.err }

func (w *Writer) do(step func() error) {
	if w.err == nil {
		w.err = w.ctx.Err()
	}
	if w.err == nil {
		w.err = step()
	}
}
