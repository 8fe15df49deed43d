package task

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"fundus/core/block"
	"fundus/core/block/field"
	"fundus/core/boot"
	"fundus/core/finding"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/table/gpt"
	"fundus/core/table/mbr"
	"fundus/core/table/schemes"
	"fundus/core/target"
	"fundus/core/text/fstab"
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
	// Plan appends the steps to the planner's stage. It goes by the machine as it would
	// be after what was planned before (Stage.Now).
	Plan(ctx context.Context, p *Planner) error
}

// About is a request that is about devices by their words, which may be image files.
type About interface{ Devices() []string }

// Conditions are what a plan depends on besides its request.
type Conditions struct {
	Machine machine.Reader
	Store   *deed.Store
	Seed    [32]byte // of all random identifiers
	Clock   time.Time
	Spill   block.Spill
	Config  *config.Config // nil for the defaults
	// WithoutUndo keeps no images from before: the draft can only be completed then.
	WithoutUndo bool
	// Look is one that was taken right before, which the first plan goes by; nil: it looks itself.
	Look *inventory.Inventory
	// Decode gives a stored request back; nil where none is planned that holds others.
	Decode func(r draft.Request) (Request, error)
	// InPlace lets text files be written over where nothing can be renamed over them.
	InPlace bool
}

// Planner collects what a plan consists of.
type Planner struct {
	Stage    *stage.Stage
	Store    *deed.Store
	Clock    time.Time
	Config   *config.Config
	Draft    draft.Draft
	part     int // of the draft's, which is being planned
	decode   func(r draft.Request) (Request, error)
	requests int       // so far
	subjects []subject // of which it is told what becomes of them
	moves    string    // what of a table moves, as soon as it is written; empty for nothing
	random   *rand.ChaCha8
	Undoes   string // identifier of the deed that it takes back
}

// ErrChanging says that another process is changing a disk, which cannot be planned with
// meanwhile.
var ErrChanging = errors.New("it is being changed")

// Plan works the request out on overlays, with the code of the draft. Nothing is written. Where a
// table does not hold together while another process has its disk locked, that is not believed, and
// planned again.
func Plan(ctx context.Context, s Conditions, r Request) (*draft.Plan, error) {
	plan, err := Again(ctx, s, r)
	if err != nil {
		return nil, err
	}
	if err := plan.Seal(ctx); err != nil {
		plan.Close()
		return nil, err
	}
	return plan, nil
}

// Again is Plan for a commit, which works the code out by itself while it reads what it keeps.
func Again(ctx context.Context, s Conditions, r Request) (*draft.Plan, error) {
	plan, disks, err := planOnce(ctx, s, r)
	s.Look = nil
	for range machine.Again {
		if !torn(err) {
			return plan, err
		}
		who := ""
		for _, d := range disks {
			who = cmp.Or(who, s.Machine.Locked(d))
		}
		plan, disks, err = planOnce(ctx, s, r)
		if who == "" || ctx.Err() != nil || !torn(err) {
			return plan, err
		}
		select {
		case <-ctx.Done():
		case <-time.After(machine.AgainAfter):
		}
	}
	return nil, fmt.Errorf("%s: %w by another process; wait for it to end, then run the command again (the last look: %w)",
		strings.Join(disks, ", "), ErrChanging, err)
}

// torn reports whether the error may come of reading a table while it was written.
func torn(err error) bool {
	for _, e := range []error{
		schemes.ErrDamaged, gpt.ErrInvalid, gpt.ErrCut, mbr.ErrChain, field.ErrChecksum, field.ErrMagic,
		target.ErrNoTable,
	} {
		if errors.Is(err, e) {
			return true
		}
	}
	return false
}

// planOnce gives the disks that were opened too.
func planOnce(ctx context.Context, s Conditions, r Request) (*draft.Plan, []string, error) {
	v, err := machine.Looked(ctx, s.Machine, s.Look)
	if err != nil {
		return nil, nil, err
	}
	st := stage.New(s.Machine, v, s.Spill)
	if s.Config == nil {
		s.Config = config.Default()
	}
	p := &Planner{Stage: st, Store: s.Store, Clock: s.Clock, Config: s.Config, decode: s.Decode}
	p.Draft = draft.Draft{
		Format:  draft.Format,
		Machine: st.Before().Machine.String(),
		Root:    st.Before().Machine.Root,
		Seed:    s.Seed,
		Clock:   s.Clock,
		Forward: s.WithoutUndo,
		InPlace: s.InPlace,
	}
	st.InPlace = s.InPlace
	plan := &draft.Plan{Seen: st.Before(), Strokes: st.Strokes, Release: st.Close}
	if p.Draft.Request, err = Encode(r); err == nil {
		err = p.Do(ctx, r)
	}
	if err == nil {
		err = p.finish(ctx)
	}
	plan.Draft, plan.Undoes = p.Draft, p.Undoes
	if err != nil {
		opened := st.Opened()
		plan.Close()
		return nil, opened, err
	}
	return plan, nil, nil
}

// Encode stores a request.
func Encode(r Request) (draft.Request, error) {
	args, err := json.Marshal(r)
	return draft.Request{Verb: r.Verb(), Args: args}, err
}

// Fresh is a new random identifier; the same seed gives the same ones.
func (p *Planner) Fresh() uuid.UUID {
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

// Do plans another request behind what was planned so far, as a part of the same draft
// with a title and facts of its own.
func (p *Planner) Do(ctx context.Context, r Request) error {
	random := p.random
	p.random = rand.NewChaCha8(SeedOf(p.Draft.Seed, p.requests))
	p.requests++
	err := p.Part(func() error { return r.Plan(ctx, p) })
	p.random = random
	return err
}

// ErrUndecoded is a request that holds others where nobody reads those.
var ErrUndecoded = errors.New("it holds other requests, which are not read here")

// Decode gives a request back that another one holds.
func (p *Planner) Decode(r draft.Request) (Request, error) {
	if p.decode == nil {
		return nil, ErrUndecoded
	}
	return p.decode(r)
}

// Inner plans another request as one of those that the present one is made of, and gives the names
// of the devices that it makes.
func (p *Planner) Inner(ctx context.Context, r Request) (made []string, err error) {
	first, steps := len(p.Draft.Parts), len(p.Stage.Steps())
	err = p.Do(ctx, r)
	for i := first; i < len(p.Draft.Parts); i++ {
		part := &p.Draft.Parts[i]
		part.Under = p.part + 1
		made = append(made, part.Made...)
	}
	if err == nil {
		p.Draft.Parts[first].Idle = steps == len(p.Stage.Steps())
	}
	return made, err
}

// Piece plans another request as a piece of the present one, in whose part stands all that it has to
// say, and gives the names of the devices that it makes.
func (p *Planner) Piece(ctx context.Context, r Request) (made []string, err error) {
	first := len(p.Draft.Parts)
	err = p.Do(ctx, r)
	own, whole := p.Current(), p.Draft.Parts
	for _, part := range whole[first:] {
		made = append(made, part.Made...)
		own.Facts, own.Details = append(own.Facts, part.Facts...), append(own.Details, part.Details...)
		own.Values, own.Made = append(own.Values, part.Values...), append(own.Made, part.Made...)
		own.Notes, own.Warnings = append(own.Notes, part.Notes...), append(own.Warnings, part.Warnings...)
	}
	p.Draft.Parts = whole[:first]
	return made, err
}

// Made says of devices that the request makes them, or finds them made already.
func (p *Planner) Made(names ...string) { p.Current().Made = append(p.Current().Made, names...) }

// Part plans what stands as a part of its own in the draft, with its title and facts.
func (p *Planner) Part(plan func() error) error {
	outer := p.part
	p.part = len(p.Draft.Parts)
	p.Draft.Parts = append(p.Draft.Parts, draft.Part{Steps: [2]int{len(p.Stage.Steps()), 0}})
	err := plan()
	p.Current().Steps[1] = len(p.Stage.Steps())
	p.part = outer
	return err
}

// SeedOf is the seed of one request of a draft, counted from 0: which identifiers it draws
// does not depend on how many others before it drew.
func SeedOf(seed [32]byte, request int) [32]byte {
	if request == 0 {
		return seed
	}
	return sha256.Sum256(binary.BigEndian.AppendUint64(seed[:], uint64(request)))
}

// Current is the part that is being planned.
func (p *Planner) Current() *draft.Part { return &p.Draft.Parts[p.part] }

func (p *Planner) Title(format string, args ...any) {
	p.Current().Title = fmt.Sprintf(format, args...)
}

func (p *Planner) Note(format string, args ...any) {
	p.Current().Notes = append(p.Current().Notes, fmt.Sprintf(format, args...))
}

func (p *Planner) Warn(format string, args ...any) {
	p.Current().Warnings = append(p.Current().Warnings, fmt.Sprintf(format, args...))
}

// Want records a decision that only whoever asked can make.
func (p *Planner) Want(id draft.NeedID, device, option, why string, args ...any) {
	p.Draft.Wants = append(p.Draft.Wants, draft.Need{ID: id, Device: device, Option: option, Why: fmt.Sprintf(why, args...)})
}

// Excuse takes things out of what must be accepted: the new findings about them are a
// decision already, or are asked for by one that is wanted.
func (p *Planner) Excuse(things ...string) {
	p.Draft.Excused = append(p.Draft.Excused, things...)
}

// Details are figures that are the same each time, or that nobody asked for.
func (p *Planner) Details(facts ...fs.Fact) {
	p.Current().Details = append(p.Current().Details, facts...)
}

func (p *Planner) Facts(facts ...fs.Fact) {
	p.Current().Facts = append(p.Current().Facts, facts...)
}

// Now is the machine as it would be.
func (p *Planner) Now(ctx context.Context) (*inventory.Inventory, error) { return p.Stage.Now(ctx) }

// Write checks the claim first, so that a refusal comes with the plan.
func (p *Planner) Write(ctx context.Context, title string, t machine.Target, fn func(dev block.Device) error) error {
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	if err := machine.CheckClaim(v, t); err != nil {
		return err
	}
	return p.Stage.Write(ctx, title, t, fn)
}

// finish fills in what every draft has.
func (p *Planner) finish(ctx context.Context) error {
	d := &p.Draft
	d.Title = d.Parts[0].Title
	d.Steps, d.Lines = p.Stage.Steps(), p.Stage.LineChanges()
	before := p.Stage.Before()
	after, err := p.Now(ctx)
	if err != nil {
		return err
	}
	d.Devices = devices(d.Steps, before, after)
	for _, t := range d.Written() {
		d.Before = append(d.Before, before.Family(t.Name)...)
		d.After = append(d.After, after.Family(t.Name)...)
	}
	p.results(after)
	d.Called = target.Called(before, d.Before)
	maps.Copy(d.Called, target.Called(after, d.After)) // what is there on both sides is named as it is then
	was, bootBefore := verify.Judge(before)
	is, bootAfter := verify.Judge(after)
	for _, f := range finding.AtLeast(was, finding.Error) {
		d.Errors = append(d.Errors, f.Key())
	}
	d.Findings = slices.DeleteFunc(finding.Added(was, is), func(f finding.Finding) bool {
		return f.ID == verify.ContentUnknown.ID && slices.Contains(d.Excused, f.Key()) // as was asked for
	})
	p.boots(before, bootBefore, bootAfter)
	d.Losses, d.Wants = once(d.Losses, func(l draft.Loss) string { return l.Node + " " + l.What }), once(d.Wants, func(n draft.Need) string { return n.Option + " " + n.Why })
	d.Undo, d.LastStep = grade(d.Steps)
	if d.Undo == draft.UntilMounted && len(d.Losses) == 0 && onEmptyRoom(before, after, d.Steps) {
		d.Undo = draft.ByName
	}
	if d.Forward {
		d.Undo = draft.Never
	}
	return nil
}

// boots holds the next boot against that of the machine as it is.
func (p *Planner) boots(before *inventory.Inventory, was, is boot.Report) {
	d := &p.Draft
	if d.Empty() || before.Files[fstab.Path].Missing || before.Files[fstab.Path].Problem != "" {
		return
	}
	change, worse := boot.Compare(was, is)
	if was.Verdict.Rank() > boot.ComesUp.Rank() { // an undo may bring that back
		d.Errors = append(d.Errors, boot.Worse.New(boot.Thing, "").Key())
	}
	if len(change.Lines) > 0 || len(d.Lines) > 0 || change.Before != change.After {
		d.Boot = &draft.BootChange{
			Was:    string(was.Verdict),
			Is:     string(is.Verdict),
			Before: change.Before,
			After:  change.After,
			Lines:  change.Lines,
		}
	}
	d.Findings = append(d.Findings, worse...)
	if len(worse) > 0 && len(d.Wants) > 0 { // what is decided there first may change it
		p.Excuse(worse[0].Thing)
	}
}

// devices lists every device that a step or an action names, once. One that the draft
// makes, or takes away, is as it is on the side where it is there.
func devices(steps []draft.Step, before, after *inventory.Inventory) (out []draft.Device) {
	add := func(name string, written bool) {
		if i := slices.IndexFunc(out, func(d draft.Device) bool { return d.Name == name }); i >= 0 {
			out[i].Written = out[i].Written || written
			return
		}
		n, ok := before.Node(name)
		if !ok {
			n, _ = after.Node(name)
		}
		disk, _ := after.Node(n.Parent)
		image := n.Form == inventory.Image || disk.Form == inventory.Image
		out = append(out, draft.Device{
			Name:     n.Name,
			Path:     n.Path,
			Image:    image,
			Written:  written,
			Identity: n.Identity,
			Below:    below(before.Below(n)),
		})
	}
	for _, s := range steps {
		for _, t := range deed.TargetsOf(s) {
			add(t.Device, true)
		}
		for _, name := range deed.NamesOf(s) {
			add(name, false)
		}
	}
	return out
}

// grade is the worst of the steps', and the first step, from 1, that has no way back.
func grade(steps []draft.Step) (worst draft.Grade, last int) {
	worst = draft.Nothing
	for i, s := range steps {
		worst = worst.Worse(deed.GradeOf(s))
		if s.NoWayBack && last == 0 {
			worst, last = worst.Worse(draft.NotAfter), i+1
		}
	}
	return worst, last
}

// onEmptyRoom reports whether all that the steps put on devices lies where nothing was, and is used by
// what the steps did as well: mounted, swapped on, or named by a line or a unit. What is in it by then
// came there through that use alone, so that a way back may take it along, by its name.
func onEmptyRoom(before, after *inventory.Inventory, steps []draft.Step) bool {
	was, is := taken(before), taken(after)
	for _, s := range steps {
		for _, t := range deed.TargetsOf(s) {
			if t.Hold != machine.HoldContent {
				continue
			}
			holds := func(n inventory.Node) bool {
				c, ok := n.Content()
				return ok && c.Class != fs.Table && n.Start < t.Start+t.Size && t.Start < n.Start+n.Size
			}
			used := func(n inventory.Node) bool { return n.Start == t.Start && is[n.Name] && !was[n.Name] }
			if slices.ContainsFunc(before.Family(t.Device), holds) || !slices.ContainsFunc(after.Family(t.Device), used) {
				return false
			}
		}
	}
	return true
}

// taken are the nodes that somebody uses, or is going to at each boot.
func taken(v *inventory.Inventory) map[string]bool {
	out, by := map[string]bool{}, v.Resolver()
	for _, u := range v.Uses {
		out[u.Node] = true
	}
	for name := range v.Named() {
		out[name] = true
	}
	for _, u := range v.Kept() {
		for _, n := range by.Resolve(u.Entry.Spec) {
			out[n.Name] = true
		}
	}
	return out
}

// below are the identities of the disks that a device is built on.
func below(list []inventory.Node) (out []inventory.Identity) {
	for _, n := range list {
		out = append(out, n.Identity)
	}
	return out
}

// once keeps the first of those that say the same.
func once[T any](list []T, says func(T) string) (out []T) {
	said := map[string]bool{}
	for _, x := range list {
		if !said[says(x)] {
			said[says(x)] = true
			out = append(out, x)
		}
	}
	return out
}
