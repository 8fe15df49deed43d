package task

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/extent"
	"fundus/core/finding"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/verify"
	"fundus/internal/config"
	"fundus/internal/deed"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/stage"
)

// Request is what was asked of a change, as plain data that can be stored.
type Request interface {
	// Verb names the request in stored drafts and deeds.
	Verb() string
	// plan appends the steps to the planner's stage.
	plan(ctx context.Context, p *Planner) error
}

// Setting is what a plan depends on besides its request.
type Setting struct {
	Machine machine.Reader
	Store   *deed.Store
	Seed    [32]byte // of all random identifiers
	Clock   time.Time
	Spill   block.Spill
	Config  *config.Config // nil for the defaults
}

// Planner collects what a plan consists of.
type Planner struct {
	Stage  *stage.Stage
	Store  *deed.Store
	Clock  time.Time
	Config *config.Config
	Draft  draft.Draft
	random *rand.ChaCha8
	undoes string
}

// Plan works the request out on overlays. Nothing is written.
func Plan(ctx context.Context, s Setting, r Request) (*draft.Plan, error) {
	st, err := stage.New(ctx, s.Machine, s.Spill)
	if err != nil {
		return nil, err
	}
	if s.Config == nil {
		s.Config = config.Default()
	}
	p := &Planner{Stage: st, Store: s.Store, Clock: s.Clock, Config: s.Config, random: rand.NewChaCha8(s.Seed)}
	p.Draft = draft.Draft{Format: draft.Format, Machine: st.Before().Machine.String(), Root: st.Before().Machine.Root, Seed: s.Seed, Clock: s.Clock}
	plan := &draft.Plan{Units: st.Units, Release: st.Close}
	if p.Draft.Request, err = Encode(r); err == nil {
		err = r.plan(ctx, p)
	}
	if err == nil {
		err = p.finish(ctx)
	}
	plan.Draft, plan.Undoes = p.Draft, p.undoes
	if err == nil {
		err = plan.Seal(ctx)
	}
	if err != nil {
		plan.Close()
		return nil, err
	}
	return plan, nil
}

// Encode stores a request.
func Encode(r Request) (draft.Request, error) {
	args, err := json.Marshal(r)
	return draft.Request{Verb: r.Verb(), Args: args}, err
}

// Decode gives a stored request back.
func Decode(r draft.Request) (Request, error) {
	var out Request
	for _, known := range []Request{&TableNew{}, &TableRepair{}, &TableConvert{}, &TableRestore{}, &TableRebuild{}, &PartitionAdd{}, &PartitionRemove{}, &PartitionEdit{}, &Resize{}, &Format{}, &Label{}, &FstabAdd{}, &FstabRemove{}, &Mount{}, &Unmount{}, &Undo{}} {
		if known.Verb() == r.Verb {
			out = known
		}
	}
	if out == nil {
		return nil, fmt.Errorf("this release does not know the request %q", r.Verb)
	}
	return out, json.Unmarshal(r.Args, out)
}

// fresh is a new random identifier; the same seed gives the same ones.
func (p *Planner) fresh() uuid.UUID {
	var b [16]byte
	for i := range 2 {
		v := p.random.Uint64()
		for k := range 8 {
			b[8*i+k] = byte(v >> (8 * k))
		}
	}
	b[6], b[8] = b[6]&0x0F|0x40, b[8]&0x3F|0x80 // RFC 9562: version 4
	return b
}

func (p *Planner) note(format string, args ...any) {
	p.Draft.Notes = append(p.Draft.Notes, fmt.Sprintf(format, args...))
}

func (p *Planner) warn(format string, args ...any) {
	p.Draft.Warnings = append(p.Draft.Warnings, fmt.Sprintf(format, args...))
}

func (p *Planner) facts(facts ...fs.Fact) { p.Draft.Facts = append(p.Draft.Facts, facts...) }

// inventory is the machine as it would be.
func (p *Planner) inventory(ctx context.Context) (*inventory.Inventory, error) {
	return p.Stage.Inventory(ctx)
}

// write checks the claim first, so that a refusal comes with the plan.
func (p *Planner) write(ctx context.Context, title string, t machine.Target, fn func(dev block.Device) error) error {
	v, err := p.inventory(ctx)
	if err != nil {
		return err
	}
	if err := machine.CheckClaim(v, t); err != nil {
		return err
	}
	return p.Stage.Write(ctx, title, t, fn)
}

// whole is the target for all of a node's bytes.
func whole(n inventory.Node, content bool) machine.Target {
	t := machine.Target{Disk: n.Name, Size: n.Size, Content: content}
	if n.Parent != "" {
		t.Disk, t.Start = n.Parent, n.Start
	}
	return t
}

// finish fills in what every draft has.
func (p *Planner) finish(ctx context.Context) error {
	d := &p.Draft
	d.Steps, d.Lines = p.Stage.Steps(), p.Stage.LineChanges()
	before := p.Stage.Before()
	after, err := p.inventory(ctx)
	if err != nil {
		return err
	}
	for _, s := range d.Steps {
		if s.Disk == "" || slices.ContainsFunc(d.Targets, func(t draft.Target) bool { return t.Name == s.Disk }) {
			continue
		}
		n, _ := before.Node(s.Disk)
		d.Targets = append(d.Targets, draft.Target{Name: n.Name, Path: n.Path, Image: n.Form == inventory.Image, Identity: n.Identity})
		d.Before = append(d.Before, before.Family(n.Name)...)
		d.After = append(d.After, after.Family(n.Name)...)
	}
	d.Findings = finding.Added(verify.All(before), verify.All(after))
	d.Undo = undoGrade(d.Steps)
	return nil
}

func undoGrade(steps []draft.Step) draft.Grade {
	grade := draft.Nothing
	for _, s := range steps {
		switch {
		case s.Kind == draft.Write && s.Content:
			return draft.UntilMounted
		case s.Kind == draft.Write:
			grade = draft.Exactly
		case s.Kind == draft.File && grade == draft.Nothing:
			grade = draft.FileOnly
		}
	}
	return grade
}

// step is the alignment step of a disk, as configured.
func step(c *config.Config, n inventory.Node) quantity.Bytes {
	return quantity.Bytes(extent.Step(uint64(c.Alignment), uint64(n.Geometry.Physical), uint64(n.Geometry.OptIO)))
}
