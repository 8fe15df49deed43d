package boot

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/near"
	"fundus/core/target"
	"fundus/core/text/fstab"
	"fundus/core/text/unit"
	"fundus/core/units"
	"fundus/core/way"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/task"
)

// UnitAdd makes systemd units that mount a device at each boot: from the same description as
// fstab's line, or from that line.
type UnitAdd struct {
	FstabAdd
	FromFstab string `json:"from_fstab,omitempty"` // a line; it is disabled
}

// Verb of the request.
func (*UnitAdd) Verb() string { return "unit add" }

// Errors of unit requests.
var (
	ErrHasUnit = errors.New("there is a unit for it already")
	ErrNoUnit  = errors.New("there is no such unit")
)

// unitDir is where people's own units lie.
func unitDir() string { return units.Dirs()[0] }

func (r *UnitAdd) Plan(ctx context.Context, p *task.Planner) error {
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	n, e, line, err := r.described(ctx, p, v)
	if err != nil {
		return err
	}
	made, err := units.FromLine(e, v.Real)
	if err != nil {
		return fmt.Errorf("%s: %w", e.Dir, err)
	}
	p.Results(draft.RoleUnit, made.Main)
	u := readOne(e, v)
	what := "at " + u.Where
	if e.IsSwap() {
		what = "as swap"
	}
	p.Title("add %s for %s %s", made.Main, e.Spec, what)
	if n.Name != "" {
		p.Title("add %s for %s %s", made.Main, n.Name, what)
	}
	if is, err := standing(v, made, u, line); is || err != nil {
		return err
	}
	if !e.IsSwap() {
		hides(p, v, u.Where)
		if err := p.Stage.MakeDir(u.Where); err != nil {
			return err
		}
	}
	if err := putUnits(p, made); err != nil {
		return err
	}
	if line > 0 {
		table := p.FstabNow()
		if _, err := table.Disable(line); err != nil {
			return err
		}
		if err := p.SetFstab(ctx, fmt.Sprintf("make a comment of line %d of %s", line, fstab.Path), table); err != nil {
			return err
		}
	} else if err := p.Reload(ctx); err != nil {
		return err
	}
	return begin(ctx, p, made, u, n)
}

// described is what the units are to do, the device, and the line that says so.
func (r *UnitAdd) described(ctx context.Context, p *task.Planner, v *inventory.Inventory) (n inventory.Node, e fstab.Entry, line int, err error) {
	if r.FromFstab != "" {
		l, err := pick(v, p.FstabNow(), r.FromFstab, false)
		if err != nil {
			return n, e, 0, err
		}
		if l.Entry == nil {
			return n, e, 0, fmt.Errorf("line %d is swallowed by the line above; rewrite both", l.Number)
		}
		if found := v.Resolve(l.Entry.Spec); len(found) == 1 {
			n = found[0]
		}
		return n, *l.Entry, l.Number, nil
	}
	if n, err = target.Resolve(v, r.Target); err != nil {
		return n, e, 0, err
	}
	l, name, err := r.FstabAdd.line(p, v, n)
	if err != nil {
		return n, e, 0, err
	}
	p.Facts(fs.Fact{Name: "named by", Value: l.Entry.Spec + ": " + name.Why})
	for _, reason := range l.Reasons {
		p.Facts(fs.Fact{Name: reason.Option, Value: reason.Why})
	}
	for _, note := range l.Notes {
		p.Note("%s", note)
	}
	return n, l.Entry, 0, nil
}

// readOne is what systemd makes of the line.
func readOne(e fstab.Entry, v *inventory.Inventory) fstab.Unit {
	return fstab.Read(&fstab.File{Lines: []fstab.Line{{Number: 1, Entry: &e}}}, v.Real)[0]
}

// standing refuses what is there already for the place; it is true where that is the very same.
func standing(v *inventory.Inventory, made units.Made, u fstab.Unit, line int) (bool, error) {
	for _, l := range v.Units() {
		same := l.Where == u.Where && !u.Entry.IsSwap() || u.Entry.IsSwap() && l.Entry.IsSwap() && l.What == u.What
		if l.None == "" && same && l.Line != line {
			err := fmt.Errorf("line %d of fstab is for that too: %w", l.Line, ErrHasLine)
			if l.What != u.What {
				return false, way.To(err, way.FstabList())
			}
			if _, unsayable := units.FromLine(l.Entry, v.Real); unsayable != nil {
				return false, way.To(err, way.FstabList())
			}
			return false, way.To(err, way.UnitAdd("--from-fstab", way.N(l.Line)))
		}
	}
	for _, l := range v.Loaded() {
		if l.Name != made.Unit && l.Name != made.Main {
			continue
		}
		if l.Masked {
			return false, fmt.Errorf("%s is masked by %s: nothing would start it; take the mask away first", l.Name, l.Path)
		}
		if string(l.Own.Bytes()) == string(made.Tree[l.Name].Data) && line == 0 {
			return true, nil
		}
		return false, way.To(fmt.Errorf("%s: %w", l.Path, ErrHasUnit), way.UnitList())
	}
	return false, nil
}

// putUnits writes the files, and then the links that pull them in.
func putUnits(p *task.Planner, made units.Made) error {
	paths := made.Tree.Paths()
	slices.SortStableFunc(paths, func(a, b string) int { return len(made.Tree[a].To) - len(made.Tree[b].To) })
	for _, rel := range paths {
		e, at := made.Tree[rel], path.Join(unitDir(), rel)
		if err := p.Stage.MakeDir(path.Dir(at)); err != nil {
			return err
		}
		if e.To != "" {
			p.Stage.Link("have "+strings.TrimSuffix(strings.TrimSuffix(path.Dir(rel), ".wants"), ".requires")+" pull in "+path.Base(rel),
				at, e.To, false)
			continue
		}
		if err := p.Stage.SetFile("write "+at, at, e.Data); err != nil {
			return err
		}
	}
	return nil
}

// begin has systemd start what the boot would pull in, unless it is there.
func begin(ctx context.Context, p *task.Planner, made units.Made, u fstab.Unit, n inventory.Node) error {
	v, err := p.Now(ctx)
	if err != nil || !v.Machine.Systemd || v.Machine.Root != "" || len(u.By) == 0 {
		return err
	}
	a := machine.Named(made.Main, n, u)
	if _, mounted := v.MountedAt(u.Where); mounted && !u.Entry.IsSwap() || machine.Holds(v, a) {
		p.Note("it is in use already, and stays as it is; %s counts from the next boot on", made.Main)
		return nil
	}
	return p.Stage.Tell(ctx, a)
}

// UnitRemove takes units away, with the links that pull them in.
type UnitRemove struct {
	Unit    string `json:"unit"` // its name, or its place
	IfThere bool   `json:"if_there,omitempty"`
}

// Verb of the request.
func (*UnitRemove) Verb() string { return "unit remove" }

func (r *UnitRemove) Plan(ctx context.Context, p *task.Planner) error {
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	l, automount, err := findUnit(v, r.Unit)
	if errors.Is(err, ErrNoUnit) && r.IfThere {
		p.Title("remove %s", r.Unit)
		p.Note("there is no such unit")
		return nil
	}
	if err != nil {
		return err
	}
	p.Title("remove %s", l.Name)
	if automount != nil {
		p.Title("remove %s and %s", l.Name, automount.Name)
	}
	if err := dropUnits(ctx, p, v, l, automount); err != nil {
		return err
	}
	return p.Reload(ctx)
}

// findUnit finds a unit by its name or its place, with the automount before it.
func findUnit(v *inventory.Inventory, word string) (l units.Loaded, automount *units.Loaded, err error) {
	all := v.Loaded()
	base := strings.TrimSuffix(word, unit.Suffix(word))
	if strings.HasPrefix(word, "/") {
		base = strings.TrimSuffix(unit.Name(word, "mount"), ".mount")
	}
	at := -1
	for i := range all {
		switch all[i].Name {
		case base + ".mount", base + ".swap":
			at = i
		case base + ".automount":
			automount = &all[i]
		}
	}
	if at < 0 && automount != nil {
		return *automount, nil, nil
	}
	if at < 0 {
		var names []string
		for _, u := range all {
			names = append(names, u.Name, u.Where())
		}
		err := fmt.Errorf("%s: %w", word, ErrNoUnit)
		if meant := near.Nearest(word, names); meant != "" {
			err = fmt.Errorf("%w; there is %s", err, meant)
		}
		return l, nil, way.To(err, way.UnitList())
	}
	return all[at], automount, nil
}

// dropUnits takes the files away, and what belongs to them: first what is running, then the
// links, then the files.
func dropUnits(ctx context.Context, p *task.Planner, v *inventory.Inventory, l units.Loaded, automount *units.Loaded) error {
	list := []units.Loaded{l}
	if automount != nil {
		list = append(list, *automount)
	}
	for _, one := range list {
		if path.Dir(one.Path) != unitDir() {
			return fmt.Errorf("%s comes with the system, or from a generator, and is not taken away", one.Path)
		}
	}
	if automount != nil && v.Machine.Systemd && v.Machine.Root == "" {
		if a := (machine.Action{
			Verb:    machine.Start,
			UseArgs: machine.UseArgs{Unit: automount.Name, Where: automount.Where()},
		}); machine.Holds(v, a) {
			a.Verb = machine.Stop
			if err := p.Stage.Tell(ctx, a); err != nil {
				return err
			}
		}
	}
	for _, one := range list {
		for _, by := range one.By {
			if rel, own := strings.CutPrefix(by.Path, unitDir()+"/"); own {
				p.Stage.Link("have "+by.Target+" pull in "+one.Name+" no more", by.Path, v.UnitFiles[0].Tree[rel].To, true)
			}
		}
	}
	files := units.OwnDropIn(l, v.UnitFiles)
	for _, one := range slices.Backward(list) {
		if one.Link != "" { // the link goes, and what it leads to stays
			p.Stage.Link("remove the link "+one.Path, one.Path, one.Link, true)
			continue
		}
		files = slices.Insert(files, 0, one.Path)
	}
	for _, at := range files {
		now, err := p.Stage.ReadFile(at)
		if err != nil {
			return err
		}
		if err := p.Stage.PutFile("remove "+at, at, now, machine.FileState{Missing: true}); err != nil {
			return err
		}
	}
	if _, mounted := v.MountedAt(l.Where()); mounted {
		p.Note("%s stays mounted until it is unmounted", l.Where())
	}
	return nil
}

// FromUnit is a line of fstab in place of units.
type FromUnit struct {
	Unit string `json:"unit"`
}

// Verb of the request.
func (*FromUnit) Verb() string { return "fstab add --from-unit" }

func (r *FromUnit) Plan(ctx context.Context, p *task.Planner) error {
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	l, automount, err := findUnit(v, r.Unit)
	if err != nil {
		return err
	}
	p.Title("add an fstab line in place of %s", l.Name)
	e, err := units.ToLine(l, automount, v.UnitFiles)
	if err != nil {
		return fmt.Errorf("%s: %w", l.Name, err)
	}
	u := readOne(e, v)
	for _, o := range v.Units() {
		if o.None == "" && (o.Where == u.Where && !e.IsSwap() || e.IsSwap() && o.What == u.What) {
			return way.To(fmt.Errorf("line %d: %w", o.Line, ErrHasLine), way.FstabList())
		}
	}
	if err := dropUnits(ctx, p, v, l, automount); err != nil {
		return err
	}
	if err := put(ctx, p, e, ""); err != nil {
		return err
	}
	return awaited(ctx, p, inventory.Node{}, e)
}
