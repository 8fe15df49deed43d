package several

import (
	"context"
	"errors"
	"fmt"

	"fundus/internal/draft"
	"fundus/internal/task"
)

// List is several requests as one.
type List struct {
	Title    string          `json:"title,omitempty"`
	Requests []draft.Request `json:"requests"`
}

// Of is a list of the requests.
func Of(title string, requests ...task.Request) (*List, error) {
	l := &List{Title: title}
	for _, r := range requests {
		stored, err := task.Encode(r)
		if err != nil {
			return nil, err
		}
		l.Requests = append(l.Requests, stored)
	}
	return l, nil
}

// Verb of the request.
func (*List) Verb() string { return "list" }

// Errors of lists.
var (
	ErrEmpty  = errors.New("a list of requests without one")
	ErrNested = errors.New("a list in a list")
	ErrMade   = errors.New("nothing before it makes that")
)

// PartError is a part of a list that is refused: so is the whole list, and nothing is kept of it.
type PartError struct {
	Number, Of int    // from 1
	Verb       string // of the request
	Err        error
}

func (e *PartError) Error() string {
	return fmt.Sprintf("part %d of %d, %s: %v", e.Number, e.Of, e.Verb, e.Err)
}

// Unwrap gives the cause.
func (e *PartError) Unwrap() error { return e.Err }

// Plan plans each request behind those before it. Errors: PartError; ErrEmpty.
func (l *List) Plan(ctx context.Context, p *task.Planner) error {
	if len(l.Requests) == 0 {
		return ErrEmpty
	}
	p.Title("%s", l.Title)
	if l.Title == "" {
		p.Title("%d changes", len(l.Requests))
	}
	var made [][]string // by each request
	for i, stored := range l.Requests {
		names, err := one(ctx, p, stored, made)
		if err != nil {
			return &PartError{i + 1, len(l.Requests), stored.Verb, err}
		}
		made = append(made, names)
	}
	return nil
}

// one plans a request, and gives the names of what it makes.
func one(ctx context.Context, p *task.Planner, stored draft.Request, made [][]string) ([]string, error) {
	v, err := p.Now(ctx)
	if err != nil {
		return nil, err
	}
	if stored.Args, err = filled(v, stored.Args, made); err != nil {
		return nil, err
	}
	r, err := p.Decode(stored)
	if err != nil {
		return nil, err
	}
	if _, nested := r.(*List); nested {
		return nil, ErrNested
	}
	return p.Inner(ctx, r)
}
