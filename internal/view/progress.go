package view

import (
	"time"

	"fundus/core/progress"
)

// ProgressDoc is the document of kind progress: an event of long work, on one line.
type ProgressDoc struct {
	Head
	Time  time.Time `json:"time"`
	Deed  string    `json:"deed,omitempty"` // that it is part of
	Step  int       `json:"step,omitempty"` // of the deed, from 1
	Of    int       `json:"of,omitempty"`   // steps
	Title string    `json:"title"`
	Done  int64     `json:"done_bytes"`
	Total int64     `json:"of_bytes"`
}

// Progress prints one event. What cannot be printed must not stop the work.
func (p *Printer) Progress(at time.Time, r progress.Report) {
	_ = p.line(ProgressDoc{head("progress"), at, r.Deed, r.Step, r.Steps, r.Work, int64(r.Done), int64(r.Total)})
}
