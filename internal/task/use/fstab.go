package use

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"fundus/core/advice"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/target"
	"fundus/core/text/fstab"
	"fundus/internal/config"
	"fundus/internal/task"
)

// FstabAdd adds a line for a device and makes its mount point.
type FstabAdd struct {
	Target  string   `json:"target"`
	Dir     string   `json:"dir"`
	Kind    string   `json:"kind,omitempty"` // default: what is on the device
	Options []string `json:"options,omitempty"`
	By      string   `json:"by,omitempty"` // uuid, label or partuuid
}

// Verb of the request.
func (*FstabAdd) Verb() string { return "fstab add" }

// Errors of fstab requests.
var (
	ErrHasLine = errors.New("fstab has a line for it already")
	ErrNoLine  = errors.New("fstab has no such line")
	ErrNoName  = errors.New("it has no such identifier")
)

func (r *FstabAdd) Plan(ctx context.Context, p *task.Planner) error {
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	n, err := target.Resolve(v, r.Target)
	if err != nil {
		return err
	}
	e, err := r.entry(p.Config, v, n)
	if err != nil {
		return err
	}
	p.Title("add an fstab line for %s at %s", n.Name, e.Dir)
	by := v.Resolver()
	for _, l := range v.Fstab().Entries() {
		same := slices.ContainsFunc(by.Resolve(l.Entry.Spec), func(o inventory.Node) bool { return o.Name == n.Name })
		switch {
		case same && asAsked(*l.Entry, e, len(r.Options) > 0):
			return nil
		case l.Entry.Dir == e.Dir && !e.IsSwap() || same:
			return hasLine(l)
		}
	}
	if !e.IsSwap() {
		if err := p.Stage.MakeDir(e.Dir); err != nil {
			return err
		}
	}
	now, err := p.Stage.ReadFile(fstab.Path)
	if err != nil {
		return err
	}
	table := fstab.Parse(now.Data)
	line, err := table.Add(e)
	if err != nil {
		return err
	}
	p.Details(fs.Fact{Name: "line", Value: fmt.Sprintf("%d of %s", line.Number, fstab.Path)})
	return p.SetFstab(ctx, "add a line to "+fstab.Path, table)
}

func (r *FstabAdd) entry(c *config.Config, v *inventory.Inventory, n inventory.Node) (fstab.Entry, error) {
	content, ok := n.Content()
	if !ok || content.Class != fs.FileSystem && content.Class != fs.Swap {
		return fstab.Entry{}, unmountable(v, n)
	}
	spec, err := identifier(v, n, r.By, c.Identifier)
	if err != nil {
		return fstab.Entry{}, err
	}
	e := fstab.Entry{Spec: spec, Dir: path.Clean(r.Dir), Type: r.Kind, Options: slices.Clone(r.Options)}
	if e.Type == "" {
		e.Type = content.MountType()
	}
	if e.IsSwap() {
		e.Dir = "none"
	} else if !strings.HasPrefix(r.Dir, "/") {
		return fstab.Entry{}, fmt.Errorf("mount point %q: write it from the root: /%s", r.Dir, strings.TrimLeft(r.Dir, "./"))
	}
	if len(e.Options) == 0 {
		e.Options = c.MountOptions(e.Type, n.Hardware.Bus)
		if n.Hardware.Removable && c.BusOptions[n.Hardware.Bus] == nil {
			e.Options = append(e.Options, "nofail", "x-systemd.device-timeout=5s")
		}
		if len(e.Options) == 0 {
			e.Options = []string{"defaults"}
		}
	}
	if e.Pass = content.Pass; e.Dir == "/" {
		e.Pass = 1
	}
	return e, nil
}

// identifier is how fstab names the node: as was asked for, else as is preferred,
// else by its UUID or PARTUUID. One that two devices carry is refused.
func identifier(v *inventory.Inventory, n inventory.Node, by, preferred string) (string, error) {
	tags := []string{strings.ToUpper(preferred), "UUID", "PARTUUID"}
	if by != "" {
		tags = []string{strings.ToUpper(by)}
	}
	ids := n.Identifiers()
	for _, tag := range tags {
		if ids[tag] == "" {
			continue
		}
		spec := tag + "=" + ids[tag]
		if found := v.Resolve(spec); len(found) > 1 {
			return "", fmt.Errorf("%s: %w: %s and %s", spec, target.ErrTwoFit, found[0].Name, found[1].Name)
		}
		return spec, nil
	}
	return "", fmt.Errorf("%s: %w: %s", n.Name, ErrNoName, strings.Join(slices.Compact(tags), " or "))
}

// FstabRemove takes a line out; the mount point stays.
type FstabRemove struct {
	Target string `json:"target"` // mount point, device, or identifier
}

// Verb of the request.
func (*FstabRemove) Verb() string { return "fstab remove" }

func (r *FstabRemove) Plan(ctx context.Context, p *task.Planner) error {
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	table := v.Fstab()
	if number, err := strconv.Atoi(r.Target); err == nil {
		return r.line(ctx, p, table, number)
	}
	if clean := strings.TrimRight(r.Target, "/"); clean != "" {
		r.Target = clean
	}
	var found, exact []fstab.Line
	by := v.Resolver()
	for _, l := range table.Entries() {
		if l.Entry.Spec == r.Target {
			exact = append(exact, l)
		}
		named := l.Entry.Dir == r.Target || l.Entry.Spec == r.Target
		if n, err := target.Resolve(v, r.Target); err == nil && !named && !strings.HasPrefix(r.Target, "/") {
			named = slices.ContainsFunc(by.Resolve(l.Entry.Spec), func(o inventory.Node) bool { return o.Name == n.Name })
		}
		if named {
			found = append(found, l)
		}
	}
	if len(exact) == 1 { // the words of the line itself
		found = exact
	}
	p.Title("remove the fstab line for %s", r.Target)
	switch len(found) {
	case 0:
		if _, err := target.Resolve(v, r.Target); err == nil || strings.HasPrefix(r.Target, "/") || strings.Contains(r.Target, "=") {
			return nil // there is none
		}
		return advice.Way(fmt.Errorf("%s: %w", r.Target, ErrNoLine), "fundus fstab list")
	case 1:
	default:
		return fmt.Errorf("%s fits lines %d and %d; name the device or the identifier", r.Target, found[0].Number, found[1].Number)
	}
	p.Title("remove the fstab line for %s", found[0].Entry.Dir)
	if _, err := table.Remove(found[0].Number); err != nil {
		return err
	}
	if use, ok := v.MountedAt(found[0].Entry.Dir); ok {
		p.Note("%s stays mounted at %s until it is unmounted", use.Node, use.Where)
	}
	return p.SetFstab(ctx, "remove a line from "+fstab.Path, table)
}

// line takes out the line of a number: the only way to name one that cannot be read.
func (r *FstabRemove) line(ctx context.Context, p *task.Planner, table *fstab.File, number int) error {
	if _, err := table.Cut(number); err != nil {
		return advice.Way(err, "fundus fstab list")
	}
	p.Title("remove line %d of fstab", number)
	return p.SetFstab(ctx, "remove a line from "+fstab.Path, table)
}

// hasLine is the refusal of a second line for what has one.
func hasLine(l fstab.Line) error {
	err := fmt.Errorf("line %d (%s at %s): %w", l.Number, l.Entry.Spec, l.Entry.Dir, ErrHasLine)
	if advice.Kept(l.Entry.Dir) {
		return fmt.Errorf("%w, without which the machine does not start", err)
	}
	return advice.Way(fmt.Errorf("%w; remove that one first", err), "fundus fstab remove %s", l.Entry.Dir)
}

// unmountable is the refusal to mount what holds no file system.
func unmountable(v *inventory.Inventory, n inventory.Node) error {
	a := advice.For(v, n, advice.FileSystem)
	err := fmt.Errorf("%s holds nothing that can be mounted: %s", n.Name, a.Why)
	if a.Next == "" {
		return err
	}
	return advice.Way(err, "%s", a.Next)
}

// asAsked reports whether the line does what was asked for: with other options only where
// none were named.
func asAsked(have, want fstab.Entry, named bool) bool {
	return have.Dir == want.Dir && have.Type == want.Type && (!named || slices.Equal(have.Options, want.Options))
}
