// Package progress is how long work reports how far it is.
package progress

import (
	"context"

	"fundus/core/quantity"
)

// Report is one message: done of total bytes of the named work.
type Report struct {
	Work        string
	Done, Total quantity.Bytes
	Deed        string // that it is part of; empty for none
	Step, Steps int    // of the deed, from 1; 0 for none
	Moment      Moment // of that step
}

// Moment says that a step begins or has ended; empty for what is on its way.
type Moment string

const (
	Begin Moment = "begin"
	End   Moment = "end"
)

// Moments are all of them.
func Moments() []Moment { return []Moment{Begin, End} }

// Sink takes reports; nil is a sink that drops them.
type Sink func(Report)

// Send passes a report on.
func (s Sink) Send(work string, done, total quantity.Bytes) {
	s.Tell(Report{Work: work, Done: done, Total: total})
}

// Tell passes on a report that has more to say.
func (s Sink) Tell(r Report) {
	if s != nil {
		s(r)
	}
}

type key struct{}

// Within gives work that goes through many hands a sink: through a machine, where most that is
// done is over at once.
func Within(ctx context.Context, s Sink) context.Context { return context.WithValue(ctx, key{}, s) }

// Of is the sink of a context; nil where it has none.
func Of(ctx context.Context) Sink {
	s, _ := ctx.Value(key{}).(Sink)
	return s
}
