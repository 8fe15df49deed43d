package view

import (
	"fmt"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"

	"fundus/core/progress"
)

// ProgressDoc is the document of kind progress: an event of long work, on one line.
type ProgressDoc struct {
	Head
	Time   time.Time `json:"time"`
	Deed   string    `json:"deed,omitempty"`               // that it is part of
	Step   int       `json:"step,omitempty"`               // of the deed, from 1
	Of     int       `json:"of,omitempty"`                 // steps
	Moment string    `json:"moment,omitempty" of:"moment"` // of the step; absent on the way
	Title  string    `json:"title"`
	Done   int64     `json:"done_bytes"`
	Total  int64     `json:"of_bytes"`
}

// Progress prints one event. What cannot be printed must not stop the work.
func (p *Printer) Progress(at time.Time, r progress.Report) {
	_ = p.line(ProgressDoc{head("progress"), at, r.Deed, r.Step, r.Steps, string(r.Moment), r.Work, int64(r.Done), int64(r.Total)})
}

// Working says in one line of a terminal how far long work is, and after two seconds how long the rest
// will take at that pace.
func (p *Printer) Working(r progress.Report, since time.Duration) string {
	const settled = 2 * time.Second
	share := float64(r.Done) / float64(max(r.Total, 1))
	words := fmt.Sprintf("%s  %d%%, %s of %s", visible(r.Work), int(100*share), p.sum(r.Done), p.sum(r.Total))
	if rest := time.Duration(float64(since) * (1 - share) / max(share, 1e-9)); since >= settled && r.Done > 0 && r.Done < r.Total && rest < 100*time.Hour {
		words += ", " + rest.Round(time.Second).String() + " left"
	}
	return p.paint(Free, p.plain(text.Trim(words, max(p.Width, 20))))
}
