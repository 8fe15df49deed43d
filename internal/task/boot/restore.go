package boot

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
	"strings"

	"fundus/core/inventory"
	"fundus/core/propose"
	"fundus/core/text/fstab"
	"fundus/internal/deed"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/stage"
	"fundus/internal/task"
)

// FstabRestore brings back the table as it was last seen, or proposes one from what is known
// of the machine.
type FstabRestore struct{}

// Verb of the request.
func (*FstabRestore) Verb() string { return "fstab restore" }

// ErrNothingKept says that nothing is known of the table.
var ErrNothingKept = errors.New("no earlier state of the table was seen, and nothing that is mounted tells of it")

func (*FstabRestore) Plan(ctx context.Context, p *task.Planner) error {
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	now := p.FstabNow()
	kept, err := p.Store.Kept(fstab.Path)
	if err != nil {
		return err
	}
	for _, k := range kept {
		if was := fstab.Parse(k.Data); string(k.Data) != string(now.Bytes()) && len(was.Entries()) > 0 &&
			len(was.Entries()) >= len(now.Entries()) {
			p.Title("bring back fstab as it was seen on %s", k.Seen.UTC().Format("2006-01-02 15:04 MST"))
			p.Note("it had %d lines then, and has %d now", len(was.Entries()), len(now.Entries()))
			for _, l := range was.Lines { // what is wrong with them was so before
				p.Excuse(fmt.Sprintf("%s:%d", fstab.Path, l.Number))
			}
			return p.SetFstab(ctx, "put back "+fstab.Path, was)
		}
		if string(k.Data) == string(now.Bytes()) && len(now.Entries()) > 0 {
			p.Title("bring back fstab")
			p.Note("fstab is as it was last seen")
			return nil
		}
	}
	return rebuild(ctx, p, v, now)
}

// rebuild proposes a table where none was ever seen.
func rebuild(ctx context.Context, p *task.Planner, v *inventory.Inventory, now *fstab.File) error {
	units, err := generated(p.Stage)
	if err != nil {
		return err
	}
	p.Title("rewrite fstab from what is known about the machine")
	added := 0
	for _, e := range propose.Rebuild(v, units) {
		there := false
		for _, u := range now.Entries() {
			there = there || u.Entry.Dir == e.Dir && !e.IsSwap() || u.Entry.Spec == e.Spec
		}
		if there {
			continue
		}
		if _, err := now.Add(e, 0); err != nil {
			p.Warn("%s at %s is left out: %v", e.Spec, e.Dir, err)
			continue
		}
		added++
	}
	if added == 0 {
		return ErrNothingKept
	}
	from := "what is mounted now"
	if len(units) > 0 {
		from = "the units that systemd made when it last read the table, and " + from
	}
	p.Note("the lines come from %s: comments and lines that are not mounted at boot are lost", from)
	return p.SetFstab(ctx, "rewrite "+fstab.Path, now)
}

// generatorDir is where systemd keeps the units that it made of the table, until it reads
// that again.
const generatorDir = "/run/systemd/generator"

func generated(s *stage.Stage) (map[string][]byte, error) {
	names, err := s.List(generatorDir)
	if err != nil {
		return nil, err
	}
	units := map[string][]byte{}
	for _, name := range names {
		if !strings.HasSuffix(name, ".mount") && !strings.HasSuffix(name, ".swap") {
			continue
		}
		state, err := s.ReadFile(path.Join(generatorDir, name))
		if err != nil {
			return nil, err
		}
		if !state.Missing && !state.Dir {
			units[name] = state.Data
		}
	}
	return units, nil
}

// Committed keeps the table as it was before a deed, and as the deed left it where it changed
// it.
func Committed(store *deed.Store, m machine.Reader, plan *draft.Plan) error {
	d := &plan.Draft
	if err := Remember(store, plan.Seen); err != nil {
		return err
	}
	if !deed.Changes(d.Steps, fstab.Path) {
		return nil
	}
	state, err := m.ReadFile(fstab.Path)
	if err != nil || state.Missing {
		return err
	}
	return store.Keep(fstab.Path, state.Data, d.Clock)
}

// Accept keeps the table as it is now, however few lines it has: what somebody emptied on purpose
// is no fault from then on. Nothing else changes.
func Accept(store *deed.Store, v *inventory.Inventory) error {
	f := v.Files[fstab.Path]
	if f.Missing || f.Problem != "" {
		return fmt.Errorf("%s: there is nothing to accept: %s", fstab.Path, cmp.Or(f.Problem, "the file is missing"))
	}
	if err := store.Keep(fstab.Path, f.Data, v.Machine.Now); err != nil {
		return fmt.Errorf("keeping %s: %w", fstab.Path, err)
	}
	return nil
}

// Remember keeps the table as it is seen, unless it has just been emptied by somebody.
func Remember(store *deed.Store, v *inventory.Inventory) error {
	f := v.Files[fstab.Path]
	kept, err := store.Kept(fstab.Path)
	if err != nil || f.Missing || f.Problem != "" || len(v.Fstab().Entries()) == 0 {
		return err
	}
	if len(kept) > 0 {
		if _, emptied := fstab.Emptied(f.Data, kept[0].Data); emptied {
			return nil
		}
	}
	if err := store.Keep(fstab.Path, f.Data, v.Machine.Now); err != nil {
		return fmt.Errorf("keeping %s: %w", fstab.Path, err)
	}
	return nil
}
