package boot

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"fundus/core/advice"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/propose"
	"fundus/core/refused"
	"fundus/core/target"
	"fundus/core/text/fstab"
	"fundus/core/text/unit"
	"fundus/core/way"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/task"
)

// FstabAdd adds a line for a device and makes its mount point.
type FstabAdd struct {
	Target     string   `json:"target"` // a device, or the path of a swap file
	Dir        string   `json:"dir"`    // or "swap"
	Kind       string   `json:"kind,omitempty"`
	Options    []string `json:"options,omitempty"`
	By         string   `json:"by,omitempty"` // uuid, label, partuuid, partlabel or path
	Needed     bool     `json:"needed,omitempty"`
	Automount  bool     `json:"automount,omitempty"`
	Idle       string   `json:"idle,omitempty"`
	DeviceWait string   `json:"device_wait,omitempty"`
	Comment    bool     `json:"comment,omitempty"`
}

// Verb of the request.
func (*FstabAdd) Verb() string { return "fstab add" }

// Errors of fstab requests.
var (
	ErrHasLine = errors.New("fstab has a line for it already")
	ErrNoLine  = errors.New("fstab has no such line")
)

func (r *FstabAdd) Plan(ctx context.Context, p *task.Planner) error {
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	if r.Dir == fstab.Swap && strings.HasPrefix(r.Target, "/") && !strings.HasPrefix(r.Target, "/dev/") {
		return r.swapFile(ctx, p)
	}
	n, err := target.Resolve(v, r.Target)
	if err != nil {
		return err
	}
	l, name, err := r.line(p, v, n)
	if err != nil {
		return err
	}
	e := l.Entry
	p.Title("add an fstab line for %s at %s", n.Name, e.Dir)
	if e.IsSwap() {
		p.Title("add an fstab line for %s as swap", n.Name)
	}
	by := v.Resolver()
	for _, u := range v.Units() {
		same := slices.ContainsFunc(by.Resolve(u.Entry.Spec), func(o inventory.Node) bool { return o.Name == n.Name })
		there := u.Where == e.Dir && !e.IsSwap()
		switch {
		case same && asAsked(u.Entry, e, len(r.Options) > 0):
			told(p, u.Entry)
			return nil
		case there || same:
			return hasLine(v, u, n, r)
		}
	}
	if !e.IsSwap() {
		hides(p, v, e.Dir)
		if !v.Dirs[e.Dir] {
			p.Result(draft.Result{Role: draft.RoleDirectory, Path: e.Dir})
		}
		if err := p.Stage.MakeDir(e.Dir); err != nil {
			return err
		}
	}
	p.Facts(fs.Fact{Name: "named by", Value: e.Spec + ": " + name.Why})
	for i, reason := range l.Reasons {
		if i > 0 && l.Reasons[i-1].Why == reason.Why {
			continue // said with the one before
		}
		names := []string{reason.Option}
		for _, next := range l.Reasons[i+1:] {
			if next.Why != reason.Why {
				break
			}
			names = append(names, next.Option)
		}
		p.Facts(fs.Fact{Name: strings.Join(names, ","), Value: reason.Why})
	}
	for _, note := range l.Notes {
		p.Note("%s", note)
	}
	if name.Warning != "" {
		p.Warn("%s", name.Warning)
	}
	comment := ""
	if r.Comment {
		comment = about(v, n)
	}
	if err := put(ctx, p, e, comment); err != nil {
		return err
	}
	return awaited(ctx, p, n, e)
}

// awaited starts an automount that is new: reading fstab again does not.
func awaited(ctx context.Context, p *task.Planner, n inventory.Node, e fstab.Entry) error {
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	u := readOne(e, v)
	if _, mounted := v.MountedAt(u.Where); u.None != "" || !u.Automount || len(u.By) == 0 || !v.Machine.Systemd || v.Machine.Root != "" ||
		mounted {
		return nil
	}
	return p.Stage.Tell(ctx, machine.Named(unit.Name(u.Where, "automount"), n, u))
}

// Proposed is the line that the request would add for the node.
func Proposed(p *task.Planner, v *inventory.Inventory, n inventory.Node, r FstabAdd) (fstab.Entry, error) {
	l, _, err := r.line(p, v, n)
	return l.Entry, err
}

// line is what the new line says, but for a comment.
func (r *FstabAdd) line(p *task.Planner, v *inventory.Inventory, n inventory.Node) (propose.Line, propose.Named, error) {
	c, ok := n.Content()
	if !ok || c.Class != fs.FileSystem && c.Class != fs.Swap {
		return propose.Line{}, propose.Named{}, Unmountable(v, n)
	}
	if err := apart(r.Options); err != nil {
		return propose.Line{}, propose.Named{}, err
	}
	ask := propose.Ask{
		Type:       r.Kind,
		Options:    r.Options,
		Fixed:      len(r.Options) > 0,
		Needed:     r.Needed,
		Automount:  r.Automount,
		Idle:       r.Idle,
		DeviceWait: r.DeviceWait,
	}
	for _, t := range []string{r.Idle, r.DeviceWait} {
		if t != "" && !fstab.IsTime(t) {
			return propose.Line{}, propose.Named{}, refused.As(refused.SettingWrong, fmt.Errorf("%q is no span of time: write 90s or 5min", t))
		}
	}
	kind := r.Kind
	if kind == "" {
		kind = c.MountType()
	}
	switch {
	case c.Class == fs.Swap && r.Dir != fstab.Swap && r.Dir != "none":
		return propose.Line{}, propose.Named{}, way.To(refused.As(refused.KindCannot, fmt.Errorf("%s is a swap area, which has no mount point",
			n.Name)), swapLine(v, n, r.Target))
	case c.Class != fs.Swap && r.Dir == fstab.Swap:
		return propose.Line{}, propose.Named{}, refused.As(refused.NothingThere, fmt.Errorf("%s holds %s, and is no swap area",
			n.Name, advice.Words(n)))
	case c.Class != fs.Swap && !strings.HasPrefix(r.Dir, "/"):
		return propose.Line{}, propose.Named{}, refused.As(refused.SettingWrong, fmt.Errorf("mount point %q: write it from the root: /%s",
			r.Dir, strings.TrimLeft(r.Dir, "./")))
	case c.Class != fs.Swap:
		at, err := p.Stage.Place(path.Clean(r.Dir))
		if err != nil {
			return propose.Line{}, propose.Named{}, err
		}
		if ask.Dir = at.Path; at.Path != path.Clean(r.Dir) {
			p.Note("%s leads to %s: the line says that", path.Clean(r.Dir), at.Path)
		}
	}
	ask.Preset = p.Config.MountOptions(kind, n.Hardware.Bus)
	l, err := propose.For(v, n, ask)
	if err != nil {
		return l, propose.Named{}, err
	}
	name, err := propose.Name(v, n, r.By, p.Config.Identifier)
	l.Entry.Spec = name.Spec
	return l, name, err
}

// swapFile adds a line for a file that is a swap area.
// swapLine is what an area of swap can have: no line where it can be pulled out, which would hold up
// every boot without it.
func swapLine(v *inventory.Inventory, n inventory.Node, word string) way.Step {
	if disk, _ := v.Node(n.Disk()); disk.Hardware.Removable || disk.Hardware.HotPlug {
		return way.SwapOn(word)
	}
	return way.FstabAdd(word, "swap")
}

func (r *FstabAdd) swapFile(ctx context.Context, p *task.Planner) error {
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	at, err := p.Stage.Place(r.Target)
	if err != nil {
		return err
	}
	p.Title("add an fstab line for the file %s as swap", at.Path)
	if !at.There {
		return refused.As(refused.NoSuchThing, fmt.Errorf("%s: there is no such file", r.Target))
	}
	e := fstab.Entry{Spec: at.Path, Dir: "none", Type: fstab.Swap, Options: r.Options}
	if len(e.Options) == 0 {
		e.Options = []string{"defaults"}
	}
	for _, u := range v.Units() {
		if u.What == at.Path && u.Entry.IsSwap() {
			if asAsked(u.Entry, e, len(r.Options) > 0) {
				told(p, u.Entry)
				return nil
			}
			return way.To(fmt.Errorf("line %d (%s): %w", u.Line, u.What, ErrHasLine), way.FstabEdit(way.N(u.Line), "--options=LIST"))
		}
	}
	return put(ctx, p, e, "")
}

// PutSwapFile adds the line that turns a file on at boot.
func PutSwapFile(ctx context.Context, p *task.Planner, file string, options []string) error {
	for _, l := range p.FstabNow().Entries() {
		if l.Entry.Spec == file && l.Entry.IsSwap() {
			return way.To(fmt.Errorf("%s: %w", file, ErrHasLine), way.SwapList())
		}
	}
	if len(options) == 0 {
		options = []string{"defaults"}
	}
	return put(ctx, p, fstab.Entry{Spec: file, Dir: "none", Type: fstab.Swap, Options: options}, "")
}

// put adds the line, with a comment above it where one is wanted.
func put(ctx context.Context, p *task.Planner, e fstab.Entry, comment string) error {
	told(p, e)
	table := p.FstabNow()
	line, err := table.Add(e, 0)
	if err != nil {
		return err
	}
	if comment != "" {
		if line, err = table.Say(line.Number, comment); err != nil {
			return err
		}
	}
	p.Details(fs.Fact{Name: "line", Value: fmt.Sprintf("%d of %s", line.Number, fstab.Path)})
	return p.SetFstab(ctx, "add a line to "+fstab.Path, table)
}

// told has the draft say where the line of that device and place is, as it will be: its number may
// change until then.
func told(p *task.Planner, e fstab.Entry) {
	p.Results(draft.RoleLine, string(e.Spec)+" "+e.Dir)
}

// about says in a comment what the line is for.
func about(v *inventory.Inventory, n inventory.Node) string {
	words := n.Name
	if c, ok := n.Content(); ok && c.Label != "" {
		words = c.Label
	}
	disk := n
	if d, ok := v.Node(n.Disk()); ok {
		disk = d
	}
	if hardware := strings.TrimSpace(disk.Hardware.Model + " " + disk.Hardware.Serial); hardware != "" {
		words += ": " + hardware
	}
	if n.Number > 0 {
		words += fmt.Sprintf(", partition %d", n.Number)
	}
	return words
}

// hasLine is the refusal of a second line for what has one.
func hasLine(v *inventory.Inventory, u fstab.Unit, n inventory.Node, r *FstabAdd) error {
	err := fmt.Errorf("line %d (%s at %s): %w", u.Line, u.Entry.Spec, u.Entry.Dir, ErrHasLine)
	same := slices.ContainsFunc(v.Resolve(u.Entry.Spec), func(o inventory.Node) bool { return o.Name == n.Name })
	switch {
	case same && len(r.Options) > 0 && u.Where == path.Clean(r.Dir):
		return way.To(err, way.FstabEdit(way.N(u.Line), "--options="+strings.Join(r.Options, ",")))
	case advice.Kept(u.Entry.Dir):
		return fmt.Errorf("%w, without which the machine does not start", err)
	}
	return way.To(fmt.Errorf("%w; disable that one first", err), way.FstabDisable(way.N(u.Line)))
}

// Unmountable is the refusal to mount what holds no file system.
func Unmountable(v *inventory.Inventory, n inventory.Node) error {
	a := advice.For(v, n, advice.FileSystem)
	err := refused.As(refused.NothingThere, fmt.Errorf("%s holds nothing that can be mounted: %s", n.Name, a.Why))
	if a.Next.Empty() {
		return err
	}
	return way.To(err, a.Next)
}

// asAsked reports whether the line does what was asked for: with other options only where
// none were named.
func asAsked(have, want fstab.Entry, named bool) bool {
	return have.Dir == want.Dir && have.Type == want.Type && (!named || slices.Equal(have.Options, want.Options))
}

// hides says that a directory has files in it, which are not seen while something is mounted over
// them.
func hides(p *task.Planner, v *inventory.Inventory, dir string) {
	_, device := v.MountedAt(dir)
	_, other := v.OtherAt(dir)
	if device || other || dir == "/" || v.Awaits(dir) { // a look there would be the first access
		return
	}
	names, err := p.Stage.List(dir)
	if err != nil || len(names) == 0 {
		return // whoever may not look there may mount there
	}
	few := names[:min(len(names), 3)]
	more := ""
	if len(names) > len(few) {
		more = fmt.Sprintf(" and %d more", len(names)-len(few))
	}
	p.Warn("%s is not empty; what is in it is hidden while this is mounted over it: %s%s", dir, strings.Join(few, ", "), more)
}
