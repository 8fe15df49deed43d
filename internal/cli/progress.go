package cli

import (
	"fmt"
	"time"

	"github.com/schollz/progressbar/v3"

	"fundus/core/progress"
)

// bar shows long work: a progress bar on a terminal, a line every ten seconds
// elsewhere. Short work shows nothing.
type bar struct {
	env         *Env
	drawn       *progressbar.ProgressBar
	began       time.Time
	last        time.Time
	told, ended bool // events of the first report, and of the last
}

const (
	quickWork  = 500 * time.Millisecond
	between    = 10 * time.Second
	halfSecond = 500 * time.Millisecond
)

func (e *Env) progress() *bar { return &bar{env: e, began: time.Now(), last: time.Now()} }

func (b *bar) report(r progress.Report) {
	if b.env.o.events {
		b.event(r)
		return
	}
	if b.env.o.quiet || b.env.o.json || time.Since(b.began) < quickWork {
		return
	}
	if b.env.Terminal {
		if b.drawn == nil {
			b.drawn = progressbar.NewOptions64(int64(r.Total), progressbar.OptionSetWriter(b.env.Err), progressbar.OptionShowBytes(true),
				progressbar.OptionSetDescription(r.Work), progressbar.OptionClearOnFinish(), progressbar.OptionThrottle(100*time.Millisecond))
		}
		_ = b.drawn.Set64(int64(r.Done)) // a bar that cannot be drawn must not stop the work
		return
	}
	if time.Since(b.last) >= between {
		b.last = time.Now()
		fmt.Fprintf(b.env.Err, "%s: %v of %v\n", r.Work, r.Done, r.Total)
	}
}

// event prints a document on one line: the first report, the last, and at most two a second between.
func (b *bar) event(r progress.Report) {
	whole := r.Done >= r.Total
	if b.told && !whole && time.Since(b.last) < halfSecond || whole && b.ended {
		return
	}
	b.told, b.ended, b.last = true, whole, time.Now()
	p := b.env.printer()
	p.Out = b.env.Err
	p.Progress(b.env.Now(), r)
}

func (b *bar) finish() {
	if b.drawn != nil {
		_ = b.drawn.Finish()
		b.drawn = nil
	}
}
