package deed

import (
	"cmp"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"fundus/core/fence"
	"fundus/core/inventory"
	"fundus/core/progress"
	"fundus/core/way"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/oscall"
)

// Commit carries out a reviewed draft.
type Commit struct {
	Store    *Store
	Machine  machine.Machine
	Reviewed *draft.Draft
	Seen     *inventory.Inventory                           // the machine as it was when that was planned; nil: looked at
	Plan     func(ctx context.Context) (*draft.Plan, error) // plans again; it may leave the code to the commit
	Wait     time.Duration                                  // for another commit in the same store
	Progress progress.Sink
}

// Errors of a commit.
var (
	ErrRunning = errors.New("another commit is running")
	ErrSpace   = errors.New("no space for the deed")
	ErrPlace   = errors.New("the deed would not survive")
	ErrLimit   = errors.New("the images would be too large")
)

// MidwayError is a commit that stopped in the middle and could not be taken
// back: recover is the way out.
type MidwayError struct {
	Deed string
	Err  error
}

func (e *MidwayError) Error() string {
	if errors.Is(e.Err, context.Canceled) {
		return "stopped midway, because it was interrupted; what is unfinished is fenced"
	}
	return fmt.Sprintf("stopped midway: %v; what is unfinished is fenced", e.Err)
}

// Way is the command that leads on.
func (e *MidwayError) Way() way.Step { return way.Recover(e.Deed) }

// Unwrap gives the cause.
func (e *MidwayError) Unwrap() error { return e.Err }

// TakenBackError is a commit that failed and was taken back.
type TakenBackError struct {
	Deed string
	Err  error
}

func (e *TakenBackError) Error() string {
	return fmt.Sprintf("%v; everything was taken back, nothing is changed (deed %s)", e.Err, e.Deed)
}

// Unwrap gives the cause.
func (e *TakenBackError) Unwrap() error { return e.Err }

// ChangedError is a plan that came out otherwise under the claim.
type ChangedError struct{ Now *draft.Draft }

func (e *ChangedError) Error() string {
	return fmt.Sprintf("%v; nothing was written. As things are now it would be draft %s", draft.ErrChanged, e.Now.Code)
}

// Unwrap gives draft.ErrChanged.
func (e *ChangedError) Unwrap() error { return draft.ErrChanged }

// Run commits and gives the deed.
func (c *Commit) Run(ctx context.Context) (*Deed, error) {
	if err := c.Store.prepare(); err != nil {
		return nil, err
	}
	lock, err := c.Store.lock(ctx, c.Wait, "committing draft "+c.Reviewed.Code)
	if err != nil {
		return nil, err
	}
	defer lock.Unlock()
	targets := targetsOf(c.Reviewed.Steps)
	seen, err := machine.Looked(ctx, c.Machine, c.Seen)
	if err != nil {
		return nil, err
	}
	claim, err := c.Machine.Claim(ctx, seen, claimable(seen, c.Reviewed.Steps, nil, true))
	if err != nil {
		return nil, err
	}
	defer claim.Release()
	plan, err := c.Plan(ctx)
	if err != nil {
		return nil, err
	}
	defer plan.Close()
	list, err := c.Store.listing()
	if err == nil {
		err = c.admit(plan, list)
	}
	if err != nil {
		return nil, err
	}
	bootID := plan.Seen.Machine.BootID
	if err := c.Store.sweep(); err != nil {
		return nil, err
	}
	d, err := c.record(ctx, plan, bootID, list)
	if _, changed := errors.AsType[*ChangedError](err); changed {
		return nil, err
	}
	if err != nil {
		return nil, fmt.Errorf("writing the deed: %w; nothing is changed", err)
	}
	plan.Drop() // the kernel forgets no partition that is open for reading
	defer machine.Inhibit(ctx, c.Machine, "committing: "+d.Title)()
	x := &executor{deed: d, machine: c.Machine, claim: claim, store: c.Store, seen: plan.Seen, bootID: bootID, sink: c.Progress}
	if err := x.commit(ctx); err != nil {
		return d, err
	}
	if err := machine.Settle(context.WithoutCancel(ctx), c.Machine, disksOf(targets)); err != nil {
		d.Remarks = append(d.Remarks, err.Error())
	}
	if err := c.Store.prune(list); err != nil {
		d.Remarks = append(d.Remarks, fmt.Sprintf("old deeds could not be removed: %v", err))
	}
	return d, nil
}

func disksOf(targets []machine.Target) (disks []string) {
	for _, t := range targets {
		if !slices.Contains(disks, t.Device) {
			disks = append(disks, t.Device)
		}
	}
	return disks
}

func (s *Store) lock(ctx context.Context, wait time.Duration, text string) (*oscall.Lock, error) {
	until := s.Now().Add(wait)
	for {
		lock, err := oscall.TryLock(s.path("lock"), fmt.Sprintf("%s, process %d", text, os.Getpid()))
		if !errors.Is(err, oscall.ErrLocked) {
			return lock, err
		}
		if !s.Now().Before(until) {
			return nil, fmt.Errorf("%w: %w; wait for it with --wait=SECONDS", ErrRunning, err)
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

func targetsOf(steps []draft.Step) []machine.Target {
	var out []machine.Target
	for _, s := range steps {
		out = append(out, TargetsOf(s)...)
	}
	return out
}

// admit checks all that must be so before a deed is written.
func (c *Commit) admit(plan *draft.Plan, list []entry) error {
	v, written := plan.Seen, plan.Draft.Written()
	m := Manifest{Steps: plan.Draft.Steps, Devices: plan.Draft.Devices}
	for _, e := range list {
		if e.state != Unfinished {
			continue
		}
		if d := c.Store.read(e.name); d != nil && d.Problem == nil && d.State == Unfinished && d.Touches(&m) > Apart {
			return way.To(fmt.Errorf("deed %s (%s) was cut short in the same place", d.ID, d.Title), way.Recover(way.N(d.Number)))
		}
	}
	if _, err := Names(v, plan.Draft.Devices); err != nil {
		return err
	}
	bytes, volatile := int64(c.Reviewed.Stored), true
	for _, t := range written {
		path := t.Path
		if v.Machine.Kind == "bench" {
			path = c.Machine.Root()
		}
		volatile = volatile && (t.Image || v.Machine.Kind == "bench") && oscall.Volatile(path)
	}
	if len(written) > 0 && !volatile && oscall.Volatile(c.Store.Dir) {
		return fmt.Errorf("%w: %s is in memory and a power loss empties it; choose a place on a disk with --state DIR",
			ErrPlace, c.Store.Dir)
	}
	free, err := c.Store.Free(c.Store.Dir)
	if err == nil && free < 2*bytes+1<<20 {
		return fmt.Errorf("%w: it needs up to %d bytes, %s has %d left; choose another place with --state DIR",
			ErrSpace, 2*bytes+1<<20, c.Store.Dir, free)
	}
	return err
}

// record writes the deed: images, extents, then the manifest by renaming. The bytes that it keeps
// are read once, for the images and for the code; without a manifest it never was.
func (c *Commit) record(ctx context.Context, plan *draft.Plan, bootID string, list []entry) (*Deed, error) {
	plan.Draft.Code = c.Reviewed.Code // as it turns out, or it is none of this deed's
	d, err := c.Store.newDeed(plan, bootID, list)
	if err != nil {
		return nil, err
	}
	err = c.Store.fill(ctx, d, plan)
	if err == nil && plan.Draft.Digest != c.Reviewed.Digest {
		err = &ChangedError{&plan.Draft}
	}
	if err == nil {
		err = c.Store.conclude(d)
	}
	if err != nil {
		return nil, errors.Join(err, os.RemoveAll(d.dir))
	}
	return d, nil
}

func (s *Store) newDeed(plan *draft.Plan, bootID string, list []entry) (*Deed, error) {
	number := 1
	if len(list) > 0 {
		number = list[0].number + 1
	}
	p := &plan.Draft
	d := &Deed{State: Unfinished, Manifest: Manifest{
		Format: draft.Format, Number: number, Code: p.Code, Created: s.Now(), BootID: bootID, Machine: p.Machine,
		Root: p.Root, Title: p.Title,
		Request: p.Request, Undo: p.Undo, Last: p.LastStep, Forward: p.Forward, Undoes: plan.Undoes,
		Devices: p.Devices, Steps: p.Steps, Digests: map[string]string{}, Errors: p.Errors,
	}}
	d.ID = fmt.Sprintf("%04d-%s", number, p.Code)
	d.dir = s.path("deeds", d.ID)
	return d, os.Mkdir(d.dir, 0o700)
}

// fill writes the images and the extents, and has the plan work its code out.
func (s *Store) fill(ctx context.Context, d *Deed, plan *draft.Plan) error {
	after, err := newImageWriter(filepath.Join(d.dir, "after.img"))
	if err != nil {
		return err
	}
	before, err := newImageWriter(filepath.Join(d.dir, "before.img"))
	if err != nil {
		return errors.Join(err, after.close())
	}
	after.limit, before.limit = s.Images, s.Images
	r := &recorder{ctx, d, after, before, draft.NewReader(), map[int]draft.Sums{}}
	err = d.addStrokes(plan.Strokes(d.fence(s.Dir)), r)
	if after.at+before.at > s.Images {
		err = cmp.Or(err, ErrLimit)
	}
	if errors.Is(err, ErrLimit) {
		err = fmt.Errorf("%w: more than %d bytes of old and new contents, compressed; deeds.images in the configuration raises that limit, and --without-undo keeps only what completes it",
			ErrLimit, s.Images)
	}
	if err := errors.Join(err, after.close(), before.close()); err != nil {
		return err
	}
	if err := plan.SealBy(ctx, r.sums); err != nil {
		return err
	}
	extents := []byte(extentsTag)
	for _, r := range d.runs {
		extents = r.append(extents)
	}
	return oscall.NewFile(filepath.Join(d.dir, "extents"), extents)
}

// conclude writes the manifest, which makes it a deed.
func (s *Store) conclude(d *Deed) (err error) {
	for _, name := range []string{"extents", "after.img", "before.img"} {
		if d.Digests[name], err = fileDigest(filepath.Join(d.dir, name)); err != nil {
			return err
		}
	}
	data, err := d.encode()
	if err != nil {
		return err
	}
	if err := oscall.WriteFile(filepath.Join(d.dir, "manifest"), data, ownFile()); err != nil {
		return err
	}
	return oscall.SyncDir(s.path("deeds"))
}

func (d *Deed) fence(store string) []byte {
	device := ""
	if disks := d.Written(); len(disks) > 0 {
		device = disks[0].Identity.String()
	}
	return fence.Encode(fence.Fence{Deed: d.ID, Store: store, Device: device, Command: way.Recover(d.ID).Line()})
}

func (d *Deed) addStrokes(strokes []draft.Stroke, r *recorder) error {
	for _, s := range strokes {
		record, err := carrierOf(d.Steps[s.Step]).record(r, s)
		if err != nil {
			return err
		}
		d.Strokes = append(d.Strokes, record)
	}
	return nil
}

// Stored gives the draft as it is kept for a later commit.
func Stored(d *draft.Draft, now time.Time, given draft.Given) StoredDraft {
	s := StoredDraft{Format: draft.Format, Code: d.Code, Digest: hex.EncodeToString(d.Digest[:]), Created: now, Machine: d.Machine,
		Title: d.Title, Request: d.Request, Root: d.Root, Forward: d.Forward, InPlace: d.InPlace,
		Seed: hex.EncodeToString(d.Seed[:]), Clock: d.Clock, Lose: slices.Clone(given.Lose), Despite: slices.Clone(given.Despite)}
	for _, t := range d.Devices {
		if t.Image && t.Identity.Number == 0 {
			s.Images = append(s.Images, t.Name)
		}
	}
	return s
}
