// Package progress is how long work reports how far it is.
package progress

import "fundus/core/quantity"

// Report is one message: done of total bytes of the named work.
type Report struct {
	Work        string
	Done, Total quantity.Bytes
}

// Sink takes reports; nil is a sink that drops them.
type Sink func(Report)

// Send passes a report on.
func (s Sink) Send(work string, done, total quantity.Bytes) {
	if s != nil {
		s(Report{work, done, total})
	}
}
