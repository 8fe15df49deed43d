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

	"fundus/internal/deed"
	"fundus/internal/draft"
	"fundus/internal/task"
	"fundus/internal/task/all"
	"fundus/internal/view"
)

// settle is the road of every change: plan, show, ask or store, commit.
func (e *Env) settle(ctx context.Context, m *onMachine, r task.Request) error {
	s := task.Conditions{Machine: m, Store: m.store, Clock: e.Now(), Spill: spill(m.store), Config: e.configuration(), WithoutUndo: e.o.withoutUndo}
	if _, err := io.ReadFull(e.Random, s.Seed[:]); err != nil {
		return err
	}
	plan, err := task.Plan(ctx, s, r)
	if err != nil {
		return err
	}
	defer plan.Close()
	return e.decide(ctx, m, s, r, plan, e.o.lose)
}

// decide shows the draft and goes as far as was asked for.
func (e *Env) decide(ctx context.Context, m *onMachine, s task.Conditions, r task.Request, plan *draft.Plan, lose []string) error {
	d, p := &plan.Draft, e.printer()
	if d.Empty() || e.o.draft {
		return p.Show(view.Draft{Draft: d})
	}
	if !e.o.json { // there, one document only, at the end
		if err := p.Show(view.Draft{Draft: d}); err != nil {
			return err
		}
	}
	if err := d.CheckDespite(e.o.despite); err != nil {
		return err
	}
	if !e.o.commit && e.Ask && !e.o.json {
		yes, err := e.ask(d, lose)
		if err != nil {
			return err
		}
		if !yes {
			return e.keep(m, d, lose)
		}
	} else if !e.o.commit {
		return e.keep(m, d, lose)
	} else if err := d.CheckLose(lose); err != nil {
		return err
	}
	plan.Drop()
	return e.commit(ctx, m, s, r, plan)
}

// keep stores the draft for a later commit.
func (e *Env) keep(m *onMachine, d *draft.Draft, lose []string) error {
	if err := m.store.PutDraft(deed.Stored(d, e.Now(), lose)); err != nil {
		return err
	}
	p := e.printer()
	if e.o.json {
		if err := p.Show(view.Draft{Draft: d, Stored: true}); err != nil {
			return err
		}
	}
	p.Stored(d)
	return errWaiting
}

// ask wants what is lost to be typed, one thing after the other, else yes.
func (e *Env) ask(d *draft.Draft, lose []string) (bool, error) {
	if len(d.Losses) > 0 && d.CheckLose(lose) == nil {
		d = &draft.Draft{Code: d.Code}
	}
	p, in := e.printer(), bufio.NewReader(e.In)
	rest := *d
	for {
		accept := p.Question(e.Out, &rest)
		line, err := in.ReadString('\n')
		if err != nil && err != io.EOF {
			return false, err
		}
		if !slices.Contains(accept, strings.TrimSpace(line)) {
			return false, nil
		}
		if len(rest.Losses) <= 1 {
			return true, nil
		}
		rest.Losses = rest.Losses[1:]
	}
}

func (e *Env) commit(ctx context.Context, m *onMachine, s task.Conditions, r task.Request, reviewed *draft.Plan) error {
	d := &reviewed.Draft
	defer e.Shield()()
	bar := e.progress()
	defer bar.finish()
	c := &deed.Commit{Store: m.store, Machine: m, Reviewed: d, Seen: reviewed.Seen, Wait: time.Duration(e.o.wait) * time.Second, Progress: bar.report,
		Plan: func(ctx context.Context) (*draft.Plan, error) { return task.Plan(ctx, s, r) }}
	done, err := c.Run(ctx)
	bar.finish()
	if err != nil {
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
	if stored.Root != "" {
		e.o.root = stored.Root
	}
	if m, err = e.reopen(stored.Images); err != nil {
		return err
	}
	r, err := all.Decode(stored.Request)
	if err != nil {
		return err
	}
	s := task.Conditions{Machine: m, Store: m.store, Clock: stored.Clock, Spill: spill(m.store), Config: e.configuration(), WithoutUndo: stored.Forward}
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
		if !e.o.json {
			if err := e.printer().Show(view.Draft{Draft: &plan.Draft}); err != nil {
				return err
			}
		}
		return fmt.Errorf("draft %s no longer fits: %w; draft it again to see what it would be now", code, draft.ErrChanged)
	}
	e.o.commit = true
	err = e.decide(ctx, m, s, r, plan, slices.Concat(stored.Lose, e.o.lose))
	if e.o.draft || err != nil && !errors.Is(err, errLater) {
		return err
	}
	return errors.Join(err, m.store.RemoveDraft(code))
}
