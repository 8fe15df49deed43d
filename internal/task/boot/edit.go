package boot

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"fundus/core/advice"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/kind"
	"fundus/core/mountopt"
	"fundus/core/near"
	"fundus/core/propose"
	"fundus/core/refused"
	"fundus/core/target"
	"fundus/core/text/fstab"
	"fundus/core/way"
	"fundus/internal/task"
)

// FstabEdit changes fields of one line; all other bytes stay.
type FstabEdit struct {
	Line    string   `json:"line"` // mount point, device, identifier, or number
	Add     []string `json:"add,omitempty"`
	Drop    []string `json:"drop,omitempty"`
	Options []string `json:"options,omitempty"` // in place of all
	Kind    string   `json:"kind,omitempty"`
	By      string   `json:"by,omitempty"`
	Device  string   `json:"device,omitempty"` // that it is to name
	Before  string   `json:"before,omitempty"` // the line that it is to stand before
}

// Verb of the request.
func (*FstabEdit) Verb() string { return "fstab edit" }

func (r *FstabEdit) Plan(ctx context.Context, p *task.Planner) error {
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	table := p.FstabNow()
	l, err := pick(v, table, r.Line, false)
	if err != nil {
		return err
	}
	p.Title("change line %d of fstab (%s)", l.Number, place(l.Line))
	if l.Entry == nil {
		return fmt.Errorf("line %d is swallowed by the line above; rewrite both", l.Number)
	}
	for _, step := range []func(*task.Planner, *inventory.Inventory, *fstab.File, fstab.Line) error{r.options, r.device} {
		if err := step(p, v, table, l.Line); err != nil {
			return err
		}
	}
	if r.Kind != "" {
		if err := table.Set(l.Number, fstab.TypeField, r.Kind); err != nil {
			return err
		}
	}
	if now, ok := table.Line(l.Number); ok && now.Entry != nil {
		told(p, *now.Entry)
	}
	if r.Before != "" {
		other, err := pick(v, table, r.Before, false)
		if err != nil {
			return err
		}
		if err := table.Move(l.Number, other.Number); err != nil {
			return err
		}
	}
	if string(table.Bytes()) == string(p.FstabNow().Bytes()) {
		return nil // it says so already
	}
	if use, ok := v.MountedAt(fstab.FromRoot(l.Entry.Dir)); ok && l.Entry.Dir != "none" {
		p.Note("%s stays mounted as it is until it is mounted again", use.Where)
	}
	return p.SetFstab(ctx, "change a line of "+fstab.Path, table)
}

// options drops, adds and replaces options.
func (r *FstabEdit) options(p *task.Planner, v *inventory.Inventory, table *fstab.File, l fstab.Line) error {
	if err := apart(append(slices.Clone(r.Add), r.Options...)); err != nil {
		return err
	}
	if len(r.Options) > 0 {
		if err := table.Set(l.Number, fstab.OptionsField, strings.Join(r.Options, ",")); err != nil {
			return err
		}
	}
	for _, o := range r.Drop {
		if !l.Entry.Has(mountopt.Name(o)) && len(r.Options) == 0 {
			return way.To(refused.As(refused.NoSuchThing, fmt.Errorf("line %d has no option %s", l.Number,
				mountopt.Name(o))), way.FstabList())
		}
		if err := table.DropOption(l.Number, mountopt.Name(o)); err != nil {
			return err
		}
	}
	rows := kind.Options(typeOf(v, *l.Entry, r.Kind))
	for _, o := range r.Add {
		if row, ok := rows.Find(o); ok && row.Not != "" && l.Entry.Has(row.Not) {
			if err := table.DropOption(l.Number, row.Not); err != nil {
				return err
			}
			p.Note("%s goes: %s says the opposite", row.Not, row.Name)
		}
		if err := table.AddOption(l.Number, o); err != nil {
			return err
		}
	}
	return nil
}

// apart refuses options that were meant to be several: a blank in a name is part of the option.
func apart(options []string) error {
	for _, o := range options {
		if name := mountopt.Name(o); strings.ContainsAny(name, " \t") {
			return way.To(refused.As(refused.OptionWrong, fmt.Errorf("%q: options are separated by commas: %s", o,
				strings.Join(strings.Fields(o), ","))), way.Help("fstab", "edit"))
		}
	}
	return nil
}

// typeOf is the type as which a line is mounted, looked up on the device where the line
// leaves it open.
func typeOf(v *inventory.Inventory, e fstab.Entry, asked string) string {
	if asked != "" {
		return asked
	}
	if nodes := v.Resolve(e.Spec); len(nodes) == 1 && (e.Type == "" || e.Type == "auto" || strings.Contains(e.Type, ",")) {
		if c, ok := nodes[0].Content(); ok {
			return c.MountType()
		}
	}
	return e.Type
}

// device gives the line another name for the device that it names now.
func (r *FstabEdit) device(p *task.Planner, v *inventory.Inventory, table *fstab.File, l fstab.Line) error {
	nodes := v.Resolve(l.Entry.Spec)
	switch n, err := target.Resolve(v, r.Device); {
	case r.Device == "" && (r.By == "" || propose.Again(l.Entry.Spec, r.By)):
		return nil
	case r.Device != "" && err != nil:
		return err
	case r.Device != "" && r.By == "" && len(nodes) == 1 && nodes[0].Name == n.Name:
		return nil // it names that one already
	case r.Device != "":
		if c, ok := n.Content(); !ok || l.Entry.IsSwap() != (c.Class == fs.Swap) {
			return way.To(refused.As(refused.NothingThere, fmt.Errorf("line %d is for %s, and %s is none: it holds %s",
				l.Number, map[bool]string{true: "swap", false: "a file system"}[l.Entry.IsSwap()], n.Name,
				cmp.Or(advice.Holds(n), "nothing that is known"))), way.Inspect(n.Name))
		}
		nodes = []inventory.Node{n}
	}
	if len(nodes) != 1 {
		return fmt.Errorf("%s names %d devices now: which one is meant cannot be told; write the new name with --by after the line names one",
			l.Entry.Spec, len(nodes))
	}
	name, err := propose.Name(v, nodes[0], r.By, "")
	if err != nil {
		return err
	}
	if name.Warning != "" {
		p.Warn("%s", name.Warning)
	}
	return table.Set(l.Number, fstab.SpecField, name.Spec)
}

// place is how a line is spoken of.
func place(l fstab.Line) string {
	switch {
	case l.Entry == nil:
		return "unread"
	case l.Entry.IsSwap() || l.Entry.Dir == "":
		return l.Entry.Spec
	}
	return l.Entry.Dir
}

// FstabRemove takes a line out; the mount point stays.
type FstabRemove struct {
	Target  string `json:"target"` // mount point, device, identifier, or number
	IfThere bool   `json:"if_there,omitempty"`
}

// Verb of the request.
func (*FstabRemove) Verb() string { return "fstab remove" }

func (r *FstabRemove) Plan(ctx context.Context, p *task.Planner) error {
	return without(ctx, p, r.Target, r.IfThere, "remove", "remove a line from "+fstab.Path, (*fstab.File).Remove)
}

// FstabDisable makes a comment of a line.
type FstabDisable struct {
	Line    string `json:"line"`
	IfThere bool   `json:"if_there,omitempty"`
}

// Verb of the request.
func (*FstabDisable) Verb() string { return "fstab disable" }

func (r *FstabDisable) Plan(ctx context.Context, p *task.Planner) error {
	return without(ctx, p, r.Line, r.IfThere, "disable", "make a comment of a line of "+fstab.Path, (*fstab.File).Disable)
}

// without takes a line out of force. Where there is none that is an error, unless whoever asked
// wants it to be nothing to do; a line that is disabled already is disabled.
func without(ctx context.Context, p *task.Planner, word string, ifThere bool, verb, title string, edit func(*fstab.File, int) (fstab.Line, error)) error {
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	table := p.FstabNow()
	l, err := pick(v, table, word, false)
	if p.Title("%s the fstab line for %s", verb, cmp.Or(strings.TrimRight(word, "/"), word)); errors.Is(err, ErrNoLine) {
		if was, errWas := pick(v, table, word, true); errWas == nil && verb == "disable" {
			p.Note("line %d is a comment already", was.Number)
			return nil
		}
		if ifThere {
			p.Note("fstab has no such line")
			return nil
		}
		return nearLine(table, word, err)
	}
	if err != nil {
		return err
	}
	p.Title("%s the fstab line for %s", verb, place(l.Line))
	if _, err := strconv.Atoi(word); err == nil {
		p.Title("%s line %d of fstab", verb, l.Number)
	}
	if _, err := edit(table, l.Number); err != nil {
		return err
	}
	if l.Entry != nil {
		if use, ok := v.MountedAt(fstab.FromRoot(l.Entry.Dir)); ok && !l.Entry.IsSwap() {
			p.Note("%s stays mounted at %s until it is unmounted", use.Node, use.Where)
		}
	}
	return p.SetFstab(ctx, title, table)
}

// nearLine adds to an error the place or the device of a line that may have been meant.
func nearLine(table *fstab.File, word string, err error) error {
	var list []string
	for _, l := range table.Entries() {
		list = append(list, l.Entry.Dir, l.Entry.Spec)
	}
	if meant := near.Nearest(word, list); meant != "" {
		return fmt.Errorf("%w; there is one for %s", err, meant)
	}
	return err
}

// FstabEnable makes a line again of a comment that was one.
type FstabEnable struct {
	Line string `json:"line"`
}

// Verb of the request.
func (*FstabEnable) Verb() string { return "fstab enable" }

func (r *FstabEnable) Plan(ctx context.Context, p *task.Planner) error {
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	table := p.FstabNow()
	was, err := pick(v, table, r.Line, true)
	if err != nil {
		if there, active := pick(v, table, r.Line, false); active == nil {
			p.Title("enable the fstab line for %s", r.Line)
			told(p, *there.Entry)
			return nil // it is in force
		}
		return err
	}
	p.Title("enable the fstab line for %s", place(was.Line))
	for _, u := range v.Units() {
		if !was.Entry.IsSwap() && was.Entry.Dir != "" && u.None == "" && u.Where == fstab.FromRoot(was.Entry.Dir) {
			if advice.Kept(u.Where) {
				return way.To(fmt.Errorf("line %d has %s already, and the machine does not start without it: a second line would be dropped at boot",
					u.Line, u.Where), way.FstabList())
			}
			return way.To(fmt.Errorf("line %d has %s already: a second line would be dropped at boot", u.Line, u.Where), way.FstabDisable(way.N(u.Line)))
		}
	}
	now, err := table.Enable(was.Number, known)
	if err != nil {
		return err
	}
	told(p, *now.Entry)
	if !was.Entry.IsSwap() && was.Entry.Dir != "" {
		if err := p.Stage.MakeDir(fstab.FromRoot(was.Entry.Dir)); err != nil {
			return err
		}
	}
	return p.SetFstab(ctx, "make a line again of a comment in "+fstab.Path, table)
}

// FstabSort puts parents before what is mounted below them, and swap last.
type FstabSort struct{}

// Verb of the request.
func (*FstabSort) Verb() string { return "fstab sort" }

func (*FstabSort) Plan(ctx context.Context, p *task.Planner) error {
	p.Title("sort the lines of fstab")
	table := p.FstabNow()
	if err := table.Sort(); err != nil {
		return way.To(err, way.FstabList())
	}
	if string(table.Bytes()) == string(p.FstabNow().Bytes()) {
		return nil
	}
	return p.SetFstab(ctx, "change the order of lines in "+fstab.Path, table)
}
