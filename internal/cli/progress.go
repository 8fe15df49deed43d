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
	env   *Env
	drawn *progressbar.ProgressBar
	began time.Time
	last  time.Time
}

const (
	quickWork = 500 * time.Millisecond
	between   = 10 * time.Second
)

func (e *Env) progress() *bar { return &bar{env: e, began: time.Now(), last: time.Now()} }

func (b *bar) report(r progress.Report) {
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

func (b *bar) finish() {
	if b.drawn != nil {
		_ = b.drawn.Finish()
		b.drawn = nil
	}
}
