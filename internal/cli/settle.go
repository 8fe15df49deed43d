package cli

import (
	"bufio"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fundus/core/inventory"
	"fundus/internal/act"
	"fundus/internal/deed"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/task"
	"fundus/internal/task/all"
	"fundus/internal/task/boot"
	"fundus/internal/view"
)

// change runs a request on the machine that its words are about.
func (e *Env) change(cmd *cobra.Command, r task.Request) error {
	var words []string
	if about, ok := r.(task.About); ok {
		words = about.Devices()
	}
	m, err := e.open(cmd.Context(), words...)
	if err != nil {
		return err
	}
	return e.settle(cmd.Context(), m, r)
}

// conditions are those under which everything is planned, with a seed of its own.
func (e *Env) conditions(m *onMachine) (task.Conditions, error) {
	s := task.Conditions{
		Machine:     m.Machine,
		Store:       m.store,
		Clock:       e.Now(),
		Spill:       spill(m.store),
		Config:      e.configuration(),
		Decode:      all.Decode,
		WithoutUndo: e.o.withoutUndo,
		InPlace:     e.o.inPlace,
	}
	_, err := io.ReadFull(e.Random, s.Seed[:])
	return s, err
}

// settle is the road of every change: plan, show, ask or store, commit.
func (e *Env) settle(ctx context.Context, m *onMachine, r task.Request) error {
	return e.settleFrom(ctx, m, r, nil)
}

// settleFrom plans at first by a look that was taken already; nil: it looks itself.
func (e *Env) settleFrom(ctx context.Context, m *onMachine, r task.Request, look *inventory.Inventory) error {
	s, err := e.conditions(m)
	if err != nil {
		return err
	}
	if look, err = machine.Looked(ctx, m.Machine, look); err != nil {
		return err
	}
	s.Look, e.seen = look, look
	plan, err := task.Plan(ctx, s, r)
	if err != nil {
		return err
	}
	defer plan.Close()
	plan.Draft.Remarks = e.notes
	s.Look = nil // whoever plans again looks again
	return e.decide(ctx, m, s, r, plan, draft.Given{Lose: e.o.lose, Despite: e.o.despite}, e.o.commit)
}

// decide shows the draft and goes as far as was asked for: ahead, without a question.
func (e *Env) decide(ctx context.Context, m *onMachine, s task.Conditions, r task.Request, plan *draft.Plan, given draft.Given, ahead bool) error {
	d, p := &plan.Draft, e.printer()
	if d.Empty() {
		return p.Show(view.Draft{Draft: d})
	}
	needs, err := d.Open(given)
	if err != nil {
		return err
	}
	asks := e.Ask && !ahead && !e.o.draft && !e.o.json
	shown := view.Draft{Draft: d, Needs: needs, Steps: e.o.steps}
	if !e.o.draft && (asks || ahead || !onlyLosses(needs)) {
		shown.Needs = nil // the question, or the refusal, is about them
	}
	if e.o.draft || !e.o.json { // else there is one document only, at the end
		if err := p.Show(shown); err != nil || e.o.draft {
			return err
		}
	}
	switch {
	case len(needs) > 0 && (ahead || !onlyLosses(needs)):
		return &draft.NeedError{Needs: needs}
	case asks:
		if err := e.ask(ctx, d, needs); err != nil {
			return err
		}
	case !ahead:
		return e.keep(m, d, given, needs)
	}
	plan.Drop()
	return e.commit(ctx, m, s, r, plan)
}

// onlyLosses reports whether all that is needed can be asked at the terminal.
func onlyLosses(needs []draft.Need) bool {
	return !slices.ContainsFunc(needs, func(n draft.Need) bool { return !strings.HasPrefix(n.Option, "--lose=") })
}

// keep stores the draft for a later commit, with all that was given for it. What is still
// needed then is said.
func (e *Env) keep(m *onMachine, d *draft.Draft, given draft.Given, needs []draft.Need) error {
	if err := m.store.PutDraft(deed.Stored(d, e.Now(), given)); err != nil {
		return err
	}
	p := e.printer()
	if e.o.json {
		if err := p.Show(view.Draft{Draft: d, Stored: true, Needs: needs}); err != nil {
			return err
		}
	}
	p.Stored(d)
	return errWaiting
}

// Answers that end a change.
var (
	errStopped  = errors.New("stopped")
	errNoAnswer = errors.New("nothing was typed")
)

// ask wants each thing that is lost to be typed by its name, one after the other; where
// nothing is lost, the beginning of the draft's code. Whatever else is typed ends it, and
// nothing is stored.
func (e *Env) ask(ctx context.Context, d *draft.Draft, needs []draft.Need) error {
	var open []draft.Loss
	for _, l := range d.Losses {
		if slices.ContainsFunc(needs, func(n draft.Need) bool { return n.Option == "--lose="+l.Name }) {
			open = append(open, l)
		}
	}
	p, lines := e.printer(), typed(e.In)
	for i := range max(len(open), 1) {
		accept := p.Question(e.Out, d, open, i)
		var line answer
		select {
		case <-ctx.Done():
			fmt.Fprintln(e.Out)
			return errStopped
		case line = <-lines:
		}
		word := strings.TrimSpace(line.text)
		switch {
		case line.err != nil && word == "": // Ctrl-D: the cursor stands behind the question
			fmt.Fprintln(e.Out)
			return errStopped
		case word == "":
			return errNoAnswer
		case word == "no" || word == "n":
			return errStopped
		case !slices.Contains(accept, word):
			return fmt.Errorf("%q is not %q", word, accept[0])
		}
	}
	return nil
}

// answer is a line that somebody typed.
type answer struct {
	text string
	err  error
}

// typed reads lines beside whoever asks, so that a signal ends the waiting; behind the last
// one the channel is closed.
func typed(r io.Reader) <-chan answer {
	out, in := make(chan answer), bufio.NewReader(r)
	go func() {
		for {
			line, err := in.ReadString('\n')
			out <- answer{line, err}
			if err != nil {
				close(out)
				return
			}
		}
	}()
	return out
}

func (e *Env) commit(ctx context.Context, m *onMachine, s task.Conditions, r task.Request, reviewed *draft.Plan) error {
	defer e.Shield()()
	if reviewed.Draft.Frees {
		return e.freed(ctx, m, s, r, reviewed)
	}
	return e.carry(ctx, m, s, r, reviewed)
}

// freed lets go of what the draft begins with, plans again, and carries that out. It is the same change:
// where more would be lost than was seen, or where it fails, all is used again as before.
func (e *Env) freed(ctx context.Context, m *onMachine, s task.Conditions, r task.Request, reviewed *draft.Plan) error {
	var back func(context.Context) error
	err := e.patiently(ctx, func() (err error) {
		back, err = act.Free(ctx, m.Machine, &reviewed.Draft)
		return err
	})
	if err != nil {
		return err
	}
	plan, err := task.Plan(ctx, s, r)
	if err == nil {
		defer plan.Close()
		if !within(plan.Draft.Losses, reviewed.Draft.Losses) {
			err = &deed.ChangedError{Now: &plan.Draft}
		} else {
			plan.Drop()
			err = e.carry(ctx, m, s, r, plan)
		}
	}
	var midway *deed.MidwayError
	if err == nil || errors.As(err, &midway) || errors.Is(err, errLater) {
		return err
	}
	return errors.Join(err, back(context.WithoutCancel(ctx)))
}

// within reports whether all that is lost now was to be lost before too.
func within(now, before []draft.Loss) bool {
	for _, l := range now {
		if !slices.ContainsFunc(before, func(o draft.Loss) bool { return o.Node == l.Node && o.Name == l.Name }) {
			return false
		}
	}
	return true
}

// carry commits the plan.
func (e *Env) carry(ctx context.Context, m *onMachine, s task.Conditions, r task.Request, reviewed *draft.Plan) error {
	d := &reviewed.Draft
	bar := e.progress()
	defer bar.finish()
	c := &deed.Commit{Store: m.store, Machine: m.Machine, Reviewed: d, Seen: reviewed.Seen,
		Wait: time.Duration(e.o.wait) * time.Second, Progress: bar.report,
		Plan: func(ctx context.Context) (*draft.Plan, error) { return task.Again(ctx, s, r) }}
	done, err := c.Run(ctx)
	bar.finish()
	if err != nil {
		return err
	}
	if err := boot.Committed(m.store, m.Machine, reviewed); err != nil {
		return err
	}
	if err := e.printer().Show(view.Committed{Draft: d, Deed: done}); err != nil {
		return err
	}
	if len(done.Later) > 0 {
		return errLater
	}
	return nil
}

// replaced stores what a draft that no longer fits would be now in its place, and says so: what is
// committed was seen before. What was given up for the old one was another thing, and is to be
// named again.
func (e *Env) replaced(m *onMachine, code string, plan *draft.Plan) error {
	now := &plan.Draft
	if now.Empty() {
		return fmt.Errorf("draft %s no longer fits: %w; there is nothing left to do", code, draft.ErrChanged)
	}
	needs, err := now.Open(draft.Given{})
	if err != nil {
		return err
	}
	if e.o.json {
		if err := m.store.PutDraft(deed.Stored(now, e.Now(), draft.Given{})); err != nil {
			return err
		}
		return errors.Join(&staleError{code, now, needs}, m.store.RemoveDraft(code))
	}
	fmt.Fprintf(e.Err, "fundus: draft %s no longer fits: %v; what it would be now takes its place\n", code, draft.ErrChanged)
	if !e.o.json {
		if err := e.printer().Show(view.Draft{Draft: now, Stored: true, Needs: needs}); err != nil {
			return err
		}
	}
	kept := e.keep(m, now, draft.Given{}, needs)
	if !errors.Is(kept, errWaiting) {
		return kept
	}
	return errors.Join(kept, m.store.RemoveDraft(code))
}

// staleError is a stored draft that no longer fits, with what took its place.
type staleError struct {
	code  string
	now   *draft.Draft
	needs []draft.Need
}

func (e *staleError) Error() string {
	return fmt.Sprintf("draft %s no longer fits: %v; what it would be now is draft %s", e.code, draft.ErrChanged, e.now.Code)
}

// Unwrap gives draft.ErrChanged.
func (e *staleError) Unwrap() error { return draft.ErrChanged }

// commitStored carries out a stored draft.
func (e *Env) commitStored(ctx context.Context, code string) error {
	m, err := e.open(ctx)
	if err != nil {
		return err
	}
	stored, err := m.store.Draft(code)
	if err != nil {
		return err
	}
	if m, err = e.reopen(stored.Images, stored.Root); err != nil {
		return err
	}
	r, err := all.Decode(stored.Request)
	if err != nil {
		return err
	}
	s := task.Conditions{
		Machine:     m.Machine,
		Store:       m.store,
		Clock:       stored.Clock,
		Spill:       spill(m.store),
		Config:      e.configuration(),
		Decode:      all.Decode,
		WithoutUndo: stored.Forward,
		InPlace:     stored.InPlace,
	}
	seed, err := hex.DecodeString(stored.Seed)
	if err != nil || len(seed) != len(s.Seed) {
		return fmt.Errorf("draft %s: its record is damaged; draft the change again", code)
	}
	copy(s.Seed[:], seed)
	plan, err := task.Plan(ctx, s, r)
	if err != nil {
		return fmt.Errorf("draft %s no longer fits: %w", code, err)
	}
	defer plan.Close()
	if hex.EncodeToString(plan.Draft.Digest[:]) != stored.Digest {
		return e.replaced(m, code, plan)
	}
	given := draft.Given{Lose: slices.Concat(stored.Lose, e.o.lose), Despite: slices.Concat(stored.Despite, e.o.despite)}
	needs, err := plan.Draft.Open(given)
	ahead := err != nil || len(needs) == 0 || !e.Ask || e.o.json // else what is lost is asked for
	err = e.decide(ctx, m, s, r, plan, given, ahead)
	if e.o.draft || err != nil && !errors.Is(err, errLater) {
		return err
	}
	return errors.Join(err, m.store.RemoveDraft(code))
}
