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
}

// Sink takes reports; nil is a sink that drops them.
type Sink func(Report)

// Send passes a report on.
func (s Sink) Send(work string, done, total quantity.Bytes) {
	if s != nil {
		s(Report{work, done, total})
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
