package cli

import (
	"fmt"
	"time"

	"fundus/core/progress"
)

// bar shows long work: a line that is written over on a terminal, a line every ten seconds
// elsewhere. Short work shows nothing.
type bar struct {
	env         *Env
	drawn       bool
	began       time.Time
	last        time.Time
	told, ended bool // events of the first report, and of the last
}

const (
	quickWork  = 500 * time.Millisecond
	between    = 10 * time.Second
	halfSecond = 500 * time.Millisecond
	tenth      = 100 * time.Millisecond
)

func (e *Env) progress() *bar { return &bar{env: e, began: time.Now()} }

func (b *bar) report(r progress.Report) {
	if b.env.o.events {
		b.event(r)
		return
	}
	now := time.Now()
	if r.Moment != "" || r.Total == 0 || b.env.o.quiet || b.env.o.json || now.Sub(b.began) < quickWork {
		return
	}
	pause, begin, end := between, "", "\n"
	if b.env.Terminal {
		pause, begin, end = tenth, "\r", "\x1b[K" // which clears what of a longer line is left
	}
	if now.Sub(b.last) < pause && r.Done < r.Total {
		return
	}
	b.last, b.drawn = now, b.env.Terminal
	p := b.env.printer()
	fmt.Fprint(b.env.Err, begin+p.Working(r, now.Sub(b.began))+end) // a line that cannot be written must not stop the work
}

// event prints a document on one line: where a step begins and ends, and of the bytes between the first
// report, the last, and at most two a second.
func (b *bar) event(r progress.Report) {
	if whole := r.Done >= r.Total; r.Moment == "" {
		if b.told && !whole && time.Since(b.last) < halfSecond || whole && b.ended {
			return
		}
		b.told, b.ended, b.last = true, whole, time.Now()
	}
	p := b.env.printer()
	p.Out = b.env.Err
	p.Progress(b.env.Now(), r)
}

// finish takes the line away: what is printed next is the answer.
func (b *bar) finish() {
	if b.drawn {
		fmt.Fprint(b.env.Err, "\r\x1b[K")
		b.drawn = false
	}
}
