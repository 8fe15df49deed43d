package mount

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"fundus/core/block"
	"fundus/core/fs"
	"fundus/core/inventory"
	kinds "fundus/core/kind"
	"fundus/core/mountopt"
	"fundus/core/refused"
	"fundus/core/target"
	"fundus/core/text/fstab"
	"fundus/core/way"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/machine/files"
	"fundus/internal/stage"
	"fundus/internal/task"
	"fundus/internal/task/boot"
)

// Mount mounts a device. Without Persist it changes the running system only.
type Mount struct {
	Target  string        `json:"target"`        // device, identifier, or a mount point that fstab knows
	Dir     string        `json:"dir,omitempty"` // default: what fstab says
	Options []string      `json:"options,omitempty"`
	Persist bool          `json:"persist,omitempty"` // an fstab line as well
	Line    boot.FstabAdd `json:"line,omitzero"`     // what that is like, beside what is said here
	Make    bool          `json:"make,omitempty"`    // the directory, where it is missing
	Home    Home          `json:"home,omitzero"`
	// Untouched is a look at what is there: nothing is written, not even what a journal
	// says that should have been.
	Untouched bool `json:"untouched,omitempty"`
}

// Verb of the request.
func (*Mount) Verb() string { return "mount" }

// Devices implements task.About.
func (r *Mount) Devices() []string { return []string{r.Target} }

func (r *Mount) Plan(ctx context.Context, p *task.Planner) error {
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	if slices.Contains(r.Options, "bind") || slices.Contains(r.Options, "rbind") {
		return r.bind(ctx, p, v)
	}
	if u, ok := lineOfOther(v, r.Target); ok && r.Dir == "" {
		return r.line(ctx, p, v, u)
	}
	n, err := target.Resolve(v, r.Target)
	if err != nil {
		return err
	}
	dir, kind, options := r.Dir, "", r.Options
	if dir == "" {
		dir, kind, options = r.where(v, n)
	}
	by, err := r.elsewhere(ctx, p, n, dir, options)
	if err != nil {
		return err
	}
	if by != nil {
		n.Contents, kind = []fs.Content{*by}, by.MountType()
	}
	if c, ok := n.Content(); !ok || c.Class != fs.FileSystem {
		return boot.Unmountable(v, n)
	}
	if dir, err = r.place(v, n, dir); err != nil {
		return err
	}
	p.Title("mount %s at %s", n.Name, dir)
	p.Results(draft.RoleMount, dir)
	options = r.untouched(p, n, options)
	if err := sameSuper(v, n, options); err != nil && !mountedThere(v, n, dir) {
		return err
	}
	if use, ok := v.MountedAt(dir); ok && use.Node == n.Name {
		return r.mounted(ctx, p, v, n, use)
	}
	if err := taken(v, dir); err != nil {
		return err
	}
	if err := r.apart(p, v, dir); err != nil {
		return err
	}
	if r.Persist {
		if err := r.persist(ctx, p, dir); err != nil {
			return err
		}
		p.Title("mount %s at %s, now and at each boot", n.Name, dir)
		after, err := p.Now(ctx)
		if err != nil {
			return err
		}
		e, _, _ := stage.FstabEntry(after, dir)
		kind, options = e.Type, e.Options
	}
	options = files.Numbered(p.Stage, options)
	makes := r.Make && !v.Dirs[dir]
	if makes {
		p.Result(draft.Result{Role: draft.RoleDirectory, Path: dir})
	}
	if makes && r.Home != (Home{}) { // it is a deed, whose undo takes the directory away again
		if err := p.Stage.MakeDir(dir); err != nil {
			return err
		}
		makes = false
	}
	err = p.Stage.Tell(ctx, machine.Action{
		Verb:    machine.Mount,
		Device:  n.Name,
		UseArgs: machine.UseArgs{Where: dir, Kind: kind, Options: strings.Join(options, ","), Make: makes},
	})
	if err != nil {
		return err
	}
	return r.Home.plan(ctx, p, v, n, dir)
}

// place is the directory as it is written from the root; refused where none is named, or what is named
// is no directory.
func (r *Mount) place(v *inventory.Inventory, n inventory.Node, dir string) (string, error) {
	asking := way.Mount(n.Name, "DIRECTORY").Asking("DIRECTORY")
	if dir == "" {
		return "", way.To(refused.As(refused.NoSuchThing, fmt.Errorf("%s: where? fstab has no line for it", n.Name)), asking)
	}
	if other, is := v.Node(dir); is {
		return "", way.To(refused.As(refused.NoDirectory, fmt.Errorf("%s is a device: %s is mounted in a directory", other.Name, n.Name)), asking)
	}
	if dir = path.Clean(dir); strings.HasPrefix(dir, "/") {
		return dir, nil
	}
	whole := "/" + strings.TrimLeft(dir, "./")
	return "", way.To(refused.As(refused.SettingWrong, fmt.Errorf("mount point %q: write it from the root: %s", dir, whole)), way.Mount(n.Name, whole))
}

// apart is about a program whose mounts the system does not see: it says so, and refuses to make one
// that is to last.
func (r *Mount) apart(p *task.Planner, v *inventory.Inventory, dir string) error {
	if !v.Machine.Apart {
		return nil
	}
	if r.Persist {
		err := fmt.Errorf("%s: this program has a tree of mounts of its own, and the system would not see the mount: run it where the system runs, or add the line alone",
			dir)
		return way.To(err, way.FstabAdd(r.Target, dir))
	}
	p.Note("it is mounted in this program's own tree of mounts: the system does not see it")
	return nil
}

// taken refuses a directory where something else is mounted.
func taken(v *inventory.Inventory, dir string) error {
	if use, ok := v.MountedAt(dir); ok {
		next := way.Unmount(dir)
		if dir == "/" {
			next = way.ByHand("choose another directory")
		}
		return &machine.Refusal{Rule: machine.RuleMounted, Thing: dir, Text: use.Node + " is mounted there", Next: next}
	}
	if other, ok := v.OtherAt(dir); ok {
		return &machine.Refusal{
			Rule:  machine.RuleMounted,
			Thing: dir,
			Text:  fmt.Sprintf("%s is mounted there (%s)", other.Kind, other.Source),
			Next:  way.Unmount(dir),
		}
	}
	return nil
}

// elsewhere is what lies on the device by a superblock that the options name; nil where they
// name none. The kernel takes the descriptors beside a copy, which are of the day when the file
// system was made: written by them, files are overwritten.
func (r *Mount) elsewhere(ctx context.Context, p *task.Planner, n inventory.Node, dir string, options []string) (*fs.Content, error) {
	e, value := kinds.AtOtherOf("", options)
	if e == nil {
		return nil, nil
	}
	dev, err := p.Stage.Open(ctx, n.Disk())
	if err != nil {
		return nil, err
	}
	part, err := block.NewSlice(dev, int64(n.Start), int64(n.Size))
	if err != nil {
		return nil, err
	}
	c, err := e.Read(part, value)
	if err != nil {
		return nil, way.To(fmt.Errorf("%s: %s=%s: %w", n.Name, e.Option, value, err), way.Inspect(n.Name))
	}
	line := fstab.Entry{Options: options}
	if !line.On("ro", "rw") {
		s := kinds.Options(c.MountType()).Sort(options) // without those of a line alone
		reading := slices.DeleteFunc(slices.Concat([]string{"ro"}, s.Attributes, s.Own), func(o string) bool { return o == "rw" })
		err := refused.As(refused.KindCannot, fmt.Errorf("%s: by a copy of its superblock the %s is mounted read-only: its descriptors are of the day when it was made, and what is written by them overwrites files",
			n.Name, c.Kind))
		next := way.Mount(n.Name, cmp.Or(dir, "DIRECTORY"))
		if dir == "" {
			next = next.Asking("DIRECTORY")
		}
		if r.Make {
			next = next.And("--make")
		}
		return nil, way.To(err, next.And("--options="+strings.Join(reading, ",")))
	}
	return c, nil
}

// persist adds the line of fstab.
func (r *Mount) persist(ctx context.Context, p *task.Planner, dir string) error {
	line := r.Line
	line.Target, line.Dir, line.Options = r.Target, dir, r.Options
	return p.Do(ctx, &line)
}

// mounted is Mount for what is mounted there already.
func (r *Mount) mounted(ctx context.Context, p *task.Planner, v *inventory.Inventory, n inventory.Node, use inventory.Use) error {
	if err := sameMount(use, r.Options); err != nil {
		return err
	}
	if r.Persist {
		if err := r.persist(ctx, p, use.Where); err != nil {
			return err
		}
		p.Title("keep %s mounted at %s at each boot", n.Name, use.Where)
	}
	return r.Home.plan(ctx, p, v, n, use.Where)
}

// where is the place at which the device is mounted: that of its line in fstab or of its unit,
// with the kind and the options there, or where it is already.
func (r *Mount) where(v *inventory.Inventory, n inventory.Node) (dir, kind string, options []string) {
	options = r.Options
	by := v.Resolver()
	for _, u := range append(v.Kept(), v.Units()...) {
		named := u.Where == r.Target || u.Entry.Dir == r.Target || !strings.HasPrefix(r.Target, "/") || r.Target == n.Path
		if found := by.Resolve(u.Entry.Spec); u.None == "" && u.Where != "" && len(found) == 1 && found[0].Name == n.Name && named {
			dir, kind = u.Where, u.Entry.Type
			if len(options) == 0 {
				options = u.Entry.Options
			}
		}
	}
	if mounts := machine.Mounts(v, n.Name); dir == "" && len(mounts) == 1 {
		dir = mounts[0].Where
	}
	return dir, kind, options
}

// lineOfOther finds the line of fstab for a mount point that no device is mounted at.
func lineOfOther(v *inventory.Inventory, word string) (fstab.Unit, bool) {
	for _, u := range v.Units() {
		if u.None == "" && u.Where != "" && u.Where == path.Clean(word) && OfOther(v, u) {
			return u, true
		}
	}
	return fstab.Unit{}, false
}

// OfOther reports whether what mounts a line is systemd, or a program of the kind's own: what
// it mounts is no device.
func OfOther(v *inventory.Inventory, u fstab.Unit) bool {
	e := u.Entry
	if e.Network() && !fstab.IsNode(u.What) || strings.Contains(e.Type, ".") {
		return true
	}
	return !fstab.IsNode(u.What) && !strings.HasPrefix(e.Spec, "/") && len(v.Resolve(e.Spec)) == 0
}

// line has systemd mount what a line says that names no device.
func (r *Mount) line(ctx context.Context, p *task.Planner, v *inventory.Inventory, u fstab.Unit) error {
	p.Title("mount %s at %s", u.What, u.Where)
	if r.Persist || r.Make || r.Untouched || len(r.Options) > 0 || r.Home != (Home{}) {
		return way.To(fmt.Errorf("%s: %s is mounted by systemd, as line %d says and not otherwise", u.Where, u.What,
			u.Line), way.Mount(u.Where))
	}
	if _, there := v.OtherAt(u.Where); there {
		return nil
	}
	p.Facts(fs.Fact{Name: "unit", Value: fmt.Sprintf("systemd mounts it, as line %d of fstab says", u.Line)})
	return p.Stage.Tell(ctx, machine.Action{
		Verb:    machine.StartUnit,
		UseArgs: machine.UseArgs{From: u.What, Where: u.Where, Kind: u.Entry.Type},
	})
}

// untouched are the options with those that keep the kernel from writing; without them a mount
// for reading writes all the same where a journal has to be replayed, which is said.
func (r *Mount) untouched(p *task.Planner, n inventory.Node, options []string) []string {
	c, _ := n.Content()
	k, _ := kinds.Of(c)
	if r.Untouched {
		if c.State == fs.Recovery {
			p.Note("the journal is not replayed: what was written last may be missing, and what is there may not fit together")
		}
		return slices.Concat(options, []string{"ro"}, k.Untouched)
	}
	if slices.Contains(options, "ro") && c.State == fs.Recovery && len(k.Untouched) > 0 {
		p.Note("its journal is replayed, which writes to the device; --untouched leaves it as it is")
	}
	return options
}

// bind shows a directory at another place too.
func (r *Mount) bind(ctx context.Context, p *task.Planner, v *inventory.Inventory) error {
	if r.Home != (Home{}) {
		return way.To(refused.As(refused.SettingWrong, fmt.Errorf("a bind mount shows what belongs to somebody already: --owner, --mode and --link are about where the file system itself is mounted")), way.Help("mount"))
	}
	from, dir := path.Clean(r.Target), path.Clean(r.Dir)
	if !strings.HasPrefix(r.Target, "/") || !strings.HasPrefix(r.Dir, "/") || r.Persist {
		return way.To(fmt.Errorf("a bind mount shows a directory at another one: both are named by their paths, and fstab is not changed"), way.Help("mount"))
	}
	p.Title("bind %s at %s", from, dir)
	p.Results(draft.RoleMount, dir)
	on, _ := v.MountOf(from)
	return p.Stage.Tell(ctx, machine.Action{
		Verb:    machine.Bind,
		Device:  on.Node,
		UseArgs: machine.UseArgs{From: from, Where: dir, Options: strings.Join(r.Options, ","), Make: r.Make},
	})
}

// sameSuper refuses options of the file system that a second mount of it would not have: it is
// one file system, with the options that it was mounted with first.
func sameSuper(v *inventory.Inventory, n inventory.Node, options []string) error {
	for _, use := range machine.Mounts(v, n.Name) {
		t := kinds.Options(use.Kind)
		own := t.Sort(options).Own
		if len(own) > 0 && !machine.HasAll(use, strings.Join(own, ",")) {
			return &machine.Refusal{
				Rule:  machine.RuleMounted,
				Thing: n.Name,
				Text: fmt.Sprintf("it is mounted at %s already, and has the options %s there; the kernel would leave %s out",
					use.Where, cmp.Or(use.Super, "of its kind"), strings.Join(own, ",")),
				Next: way.Mount(use.Where, "--remount", "--options="+strings.Join(own, ",")),
			}
		}
		readOnly := slices.Contains(mountopt.Listed(use.Super), "ro") // the file system itself, not one mount of it
		if s := t.Sort(options).Superblock; slices.Contains(s, "ro") != readOnly {
			return &machine.Refusal{
				Rule:  machine.RuleMounted,
				Thing: n.Name,
				Text: fmt.Sprintf("it is mounted at %s %s", use.Where, map[bool]string{
					true:  "read-only; a second mount cannot be writable",
					false: "read-write; a second mount cannot be read-only",
				}[readOnly]),
				Next: way.Unmount(use.Where),
			}
		}
	}
	return nil
}

// Remount gives a mount other options; those that are not named stay.
type Remount struct {
	Target  string   `json:"target"` // mount point, or a device that is mounted once
	Options []string `json:"options"`
}

// Verb of the request.
func (*Remount) Verb() string { return "remount" }

func (r *Remount) Plan(ctx context.Context, p *task.Planner) error {
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	dir := path.Clean(r.Target)
	use, ok := v.MountedAt(dir)
	if !ok {
		n, err := target.Resolve(v, r.Target)
		if err != nil {
			return err
		}
		mounts := machine.Mounts(v, n.Name)
		if len(mounts) != 1 {
			text := fmt.Sprintf("it is mounted at %d places; name the place", len(mounts))
			if len(mounts) == 0 {
				text = "it is not mounted"
			}
			return &machine.Refusal{Rule: machine.RuleNotMounted, Thing: n.Name, Text: text, Next: way.Survey(n.Disk())}
		}
		use, dir = mounts[0], mounts[0].Where
	}
	if len(r.Options) == 0 {
		return fmt.Errorf("%s: which options? --options=ro, for one", dir)
	}
	p.Results(draft.RoleMount, dir)
	p.Title("give %s at %s the options %s", use.Node, dir, strings.Join(r.Options, ","))
	if machine.HasAll(use, strings.Join(r.Options, ",")) {
		return nil
	}
	return p.Stage.Tell(ctx, machine.Action{
		Verb:   machine.Remount,
		Device: use.Node,
		UseArgs: machine.UseArgs{
			Where:         dir,
			Kind:          use.Kind,
			Options:       strings.Join(files.Numbered(p.Stage, r.Options), ","),
			FormerOptions: formerOf(use, r.Options),
		},
	})
}

// formerOf are the options that take the named ones back.
func formerOf(use inventory.Use, options []string) string {
	t := kinds.Options(use.Kind)
	had := slices.Concat(mountopt.Listed(use.Options), mountopt.Listed(use.Super))
	var out []string
	for _, o := range options {
		row, _ := t.Find(o)
		name, _, _ := strings.Cut(o, "=")
		i := slices.IndexFunc(had, func(h string) bool { was, _, _ := strings.Cut(h, "="); return was == name || was == row.Not })
		switch {
		case o == "ro" && !use.ReadOnly:
			out = append(out, "rw")
		case o == "rw" && use.ReadOnly:
			out = append(out, "ro")
		case i >= 0:
			out = append(out, had[i])
		case row.Not != "":
			out = append(out, row.Not)
		}
	}
	return strings.Join(out, ",")
}

// Unmount takes a mount away.
type Unmount struct {
	Target  string `json:"target"`             // mount point or device
	Below   bool   `json:"below,omitempty"`    // what is mounted further in as well
	IfThere bool   `json:"if_there,omitempty"` // nothing is done where there is no such place or device
	Detach  bool   `json:"detach,omitempty"`   // from the tree alone: it goes when nobody uses it any more
}

// Verb of the request.
func (*Unmount) Verb() string { return "unmount" }

func (r *Unmount) Plan(ctx context.Context, p *task.Planner) error {
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	dir := path.Clean(r.Target)
	p.Title("unmount %s", r.Target)
	if other, ok := v.OtherAt(dir); ok {
		return r.other(ctx, p, v, other)
	}
	if v.Awaits(dir) {
		return nil
	}
	if _, ok := v.MountedAt(dir); !ok {
		n, err := target.Resolve(v, r.Target)
		place, errPlace := p.Stage.ReadFile(dir)
		if r.IfThere && errors.Is(err, target.ErrNoTarget) && (errPlace != nil || !place.Dir) {
			p.Note("%s is not there", r.Target)
			return nil
		}
		if strings.HasPrefix(r.Target, "/") && !strings.HasPrefix(r.Target, "/dev/") && (err == nil || errPlace == nil && place.Dir) {
			p.Note("nothing is mounted there")
			return nil // a place at which nothing is mounted, wherever its device may be
		}
		if err != nil && strings.HasPrefix(r.Target, "/") {
			return machine.CheckAction(v, machine.Action{Verb: machine.Unmount, UseArgs: machine.UseArgs{Where: dir}})
		}
		if err != nil {
			return err
		}
		uses := v.UsesOf(n.Name)
		switch {
		case len(uses) == 0:
			p.Note("%s is not mounted", n.Name)
			return nil
		case uses[0].How != inventory.Mounted:
			return &machine.Refusal{Rule: machine.RuleNotMounted, Thing: n.Name, Text: "it is used as swap, not mounted"}
		case len(uses) > 1:
			return fmt.Errorf("%s is mounted at %s and %s; name the mount point", n.Name, uses[0].Where, uses[1].Where)
		}
		dir = uses[0].Where
	}
	use, _ := v.MountedAt(dir)
	p.Title("unmount %s from %s", use.Node, dir)
	if slices.ContainsFunc(v.Others, func(u inventory.Use) bool { return u.Where == dir && u.Kind == inventory.Automount }) {
		p.Note("systemd mounts it again at the next access")
	}
	for i, below := range layers(v, dir) {
		if i == 0 {
			continue // the one that goes
		}
		p.Note("%s is mounted at %s too, below it: that one is seen again", below.Node, dir)
	}
	if r.Below {
		if err := r.inside(ctx, p, v, dir); err != nil {
			return err
		}
	}
	if r.Detach {
		p.Note("%s stays in use until the last of those ends who use it", use.Node)
	}
	return p.Stage.Tell(ctx, r.action(v, use))
}

// other takes away what is mounted of no device.
func (r *Unmount) other(ctx context.Context, p *task.Planner, v *inventory.Inventory, use inventory.Use) error {
	p.Title("unmount %s (%s) from %s", use.Source, use.Kind, use.Where)
	if r.Below {
		if err := r.inside(ctx, p, v, use.Where); err != nil {
			return err
		}
	}
	a := machine.Action{Verb: machine.Unmount, UseArgs: machine.UseArgs{Where: use.Where, Kind: use.Kind, Detach: r.Detach}}
	if u, ok := lineOfOther(v, use.Where); ok {
		a.From = u.What
	} else {
		p.Note("no line of fstab says how it is mounted again")
	}
	return p.Stage.Tell(ctx, a)
}

// action takes one mount away. It says what brings the same one back.
func (r *Unmount) action(v *inventory.Inventory, u inventory.Use) machine.Action {
	a := machine.Action{
		Verb:    machine.Unmount,
		Device:  u.Node,
		UseArgs: machine.UseArgs{Where: u.Where, Kind: u.Kind, Options: machine.SameAgain(u), Detach: r.Detach},
	}
	if u.Part == "" {
		return a
	}
	for _, o := range slices.Backward(machine.Mounts(v, u.Node)) { // one in which the same directory is seen
		rest, in := strings.CutPrefix(u.Part+"/", strings.TrimSuffix(o.Part, "/")+"/")
		if in && o.Where != u.Where {
			a.From = path.Join(o.Where, rest)
			a.Options = strings.TrimSuffix("bind,"+machine.SameAgain(inventory.Use{Kind: u.Kind, Options: u.Options}), ",")
			break
		}
	}
	return a
}

// inside takes away what is mounted further in, the innermost first, and of several at one
// place the newest.
func (r *Unmount) inside(ctx context.Context, p *task.Planner, v *inventory.Inventory, dir string) error {
	var list []inventory.Use
	for _, u := range slices.Backward(v.Uses) {
		if u.How == inventory.Mounted && u.Elsewhere == "" && strings.HasPrefix(u.Where, strings.TrimSuffix(dir, "/")+"/") {
			list = append(list, u)
		}
	}
	slices.SortStableFunc(list, func(a, b inventory.Use) int { return strings.Count(b.Where, "/") - strings.Count(a.Where, "/") })
	for _, u := range list {
		if err := p.Stage.Tell(ctx, r.action(v, u)); err != nil {
			return err
		}
	}
	return nil
}

// layers are the mounts at one place, the newest first.
func layers(v *inventory.Inventory, dir string) (list []inventory.Use) {
	for _, u := range slices.Backward(v.Uses) {
		if u.How == inventory.Mounted && u.Where == dir && u.Elsewhere == "" {
			list = append(list, u)
		}
	}
	return list
}

func mountedThere(v *inventory.Inventory, n inventory.Node, dir string) bool {
	use, ok := v.MountedAt(dir)
	return ok && use.Node == n.Name
}

// sameMount is nil where the mount has the options that were asked for, as far as the kernel
// lists them; else a refusal that says what it has.
func sameMount(u inventory.Use, asked []string) error {
	if len(asked) == 0 {
		return nil
	}
	differ := kinds.Options(u.Kind).Differ(asked, u.Options, u.Super)
	differ = slices.DeleteFunc(differ, func(w string) bool { // what was not asked for is no difference
		o, with := strings.CutPrefix(w, "with ")
		return w == "ro" && !slices.Contains(asked, "rw") || with && !strings.Contains(o, "=")
	})
	if len(differ) == 0 {
		return nil
	}
	return &machine.Refusal{
		Rule:  machine.RuleMounted,
		Thing: u.Where,
		Text:  fmt.Sprintf("%s is mounted there already, and otherwise: %s", u.Node, strings.Join(differ, ", ")),
		Next:  way.Unmount(u.Where),
	}
}
