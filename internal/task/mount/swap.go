package mount

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"slices"
	"strings"

	"fundus/core/advice"
	"fundus/core/fs"
	"fundus/core/fs/swap"
	"fundus/core/inventory"
	kinds "fundus/core/kind"
	"fundus/core/memory"
	"fundus/core/quantity"
	"fundus/core/refused"
	"fundus/core/target"
	"fundus/core/text/fstab"
	"fundus/core/way"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/task"
	"fundus/internal/task/boot"
)

// SwapOn has the kernel swap on an area. Without Persist it changes the running system only.
type SwapOn struct {
	Target  string   `json:"target"`
	Options []string `json:"options,omitempty"` // pri= and discard; default: what fstab says
	Persist bool     `json:"persist,omitempty"` // an fstab line as well
}

// Verb of the request.
func (*SwapOn) Verb() string { return "swap on" }

// Devices implements task.About.
func (r *SwapOn) Devices() []string { return []string{r.Target} }

func (r *SwapOn) Plan(ctx context.Context, p *task.Planner) error {
	v, n, err := p.Device(ctx, r.Target)
	file := err != nil && strings.HasPrefix(r.Target, "/") && !strings.HasPrefix(r.Target, "/dev/") // the kernel judges it
	if err != nil && !file {
		return err
	}
	options := r.Options
	by := v.Resolver()
	for _, u := range v.Units() {
		names := u.Entry.Spec == r.Target ||
			slices.ContainsFunc(by.Resolve(u.Entry.Spec), func(o inventory.Node) bool { return o.Name == n.Name })
		if u.Entry.IsSwap() && len(options) == 0 && names {
			options = u.Entry.Options
		}
	}
	if err := checkSwapOptions(options); err != nil {
		return err
	}
	p.Title("swap on %s", cmp.Or(n.Name, r.Target))
	p.Results(draft.RoleSwap, cmp.Or(n.Name, r.Target))
	if file {
		return r.file(ctx, p, v, options)
	}
	if r.Persist {
		if err := p.Do(ctx, &boot.FstabAdd{Target: r.Target, Dir: string(fstab.Swap), Options: r.Options}); err != nil {
			return err
		}
		p.Title("swap on %s, now and at each boot", n.Name)
	}
	if v.SwapsOn(n.Name) {
		return nil
	}
	return p.Stage.Tell(ctx, machine.Action{
		Verb:    machine.SwapOn,
		Device:  n.Name,
		UseArgs: machine.UseArgs{Options: strings.Join(options, ",")},
	})
}

// file is SwapOn for one that was made before.
func (r *SwapOn) file(ctx context.Context, p *task.Planner, v *inventory.Inventory, options []string) error {
	at, err := p.Stage.Place(r.Target)
	if err != nil {
		return err
	}
	if !at.There {
		return way.To(refused.As(refused.NoSuchThing, fmt.Errorf("%s: there is no such file; fundus swap add makes one",
			r.Target)), way.SwapList())
	}
	if r.Persist {
		if err := boot.PutSwapFile(ctx, p, r.Target, r.Options); err != nil {
			return err
		}
		p.Title("swap on %s, now and at each boot", r.Target)
	}
	if v.AreaAt(r.Target) {
		return nil
	}
	return p.Stage.Tell(ctx, machine.Action{
		Verb:    machine.SwapOn,
		UseArgs: machine.UseArgs{Where: r.Target, Options: strings.Join(options, ",")},
	})
}

// checkSwapOptions refuses what the kernel would take for something else.
func checkSwapOptions(options []string) error {
	e := fstab.Entry{Options: options}
	if value, ok := e.Value("pri"); ok {
		var n int
		if _, err := fmt.Sscan(value, &n); err != nil || n < -1 || n > 32767 || value != fmt.Sprint(n) {
			return refused.As(refused.OptionWrong, fmt.Errorf("pri=%s: a priority is a number from 0 to 32767; the highest is used first",
				value))
		}
	}
	if value, ok := e.Value("discard"); ok && value != "" && value != "once" && value != "pages" {
		return fmt.Errorf("discard=%s: it is discard, discard=once or discard=pages", value)
	}
	return nil
}

// SwapOff has the kernel give an area up: what is in it goes to memory and to the others.
type SwapOff struct {
	Targets []string `json:"targets"` // devices, or paths of files
}

// Verb of the request.
func (*SwapOff) Verb() string { return "swap off" }

func (r *SwapOff) Plan(ctx context.Context, p *task.Planner) error {
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	p.Title("swap off %s", strings.Join(r.Targets, " "))
	var off []inventory.Area
	var paths []string
	for _, word := range r.Targets {
		a, err := areaOf(v, word)
		if err != nil {
			return err
		}
		if a.Path != "" {
			off, paths = append(off, a), append(paths, a.Path)
		}
	}
	if len(off) == 0 {
		p.Note("swap is off already on %s", strings.Join(r.Targets, ", "))
		return nil
	}
	sum := memory.GiveUp(v.Memory, v.Areas, paths...)
	p.Facts(fs.Fact{Name: "in use", Value: sum.String()})
	if !sum.Fits() {
		return &machine.Refusal{
			Rule:  machine.RuleMemory,
			Thing: strings.Join(r.Targets, " "),
			Text:  sum.String() + ": the kernel would kill programs to free memory",
			Next:  way.SwapList(),
		}
	}
	for _, a := range off {
		action := machine.Action{Verb: machine.SwapOff, Device: a.Node}
		if a.Node == "" {
			action.Where = a.Path
		}
		if a.Priority >= 0 {
			action.Options = fmt.Sprintf("pri=%d", a.Priority)
		}
		if err := p.Stage.Tell(ctx, action); err != nil {
			return err
		}
	}
	return nil
}

// areaOf finds the area in use that the word means; none where what it means is not in use.
func areaOf(v *inventory.Inventory, word string) (inventory.Area, error) {
	for _, a := range v.Areas {
		if a.Path == word {
			return a, nil
		}
	}
	n, err := target.Resolve(v, word)
	if err != nil && strings.HasPrefix(word, "/") && !strings.HasPrefix(word, "/dev/") {
		return inventory.Area{}, &machine.Refusal{
			Rule:  machine.RuleNotSwap,
			Thing: word,
			Text:  "no file of that name is swapped on",
			Next:  way.SwapList(),
		}
	}
	if err != nil {
		return inventory.Area{}, err
	}
	for _, a := range v.Areas {
		if a.Node == n.Name {
			return a, nil
		}
	}
	if c, ok := n.Content(); !ok || c.Class != fs.Swap {
		return inventory.Area{}, &machine.Refusal{
			Rule:  machine.RuleNotSwap,
			Thing: n.Name,
			Text:  fmt.Sprintf("it is no swap area (%s)", cmp.Or(advice.Holds(n), "nothing")),
			Next:  way.SwapList(),
		}
	}
	return inventory.Area{}, nil
}

// SwapAdd makes a file to swap on, and turns it on.
type SwapAdd struct {
	Path    string        `json:"path"`
	Size    quantity.Size `json:"size"`
	Label   string        `json:"label,omitempty"`
	Options []string      `json:"options,omitempty"`
	Persist bool          `json:"persist,omitempty"` // an fstab line as well
	Written bool          `json:"written,omitempty"` // its zeros are written
}

// Verb of the request.
func (*SwapAdd) Verb() string { return "swap add" }

// ErrSwapFile is a place that the kernel swaps on no file of.
var ErrSwapFile = errors.New("no place for a file to swap on")

func (r *SwapAdd) Plan(ctx context.Context, p *task.Planner) error {
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	file := path.Clean(r.Path)
	p.Results(draft.RoleSwap, file)
	size, err := r.Size.Resolve(0, 0)
	if err != nil {
		return err
	}
	page := quantity.Bytes(os.Getpagesize())
	size = size / page * page
	how, err := r.place(p, v, file, size)
	if err := errors.Join(err, checkSwapOptions(r.Options)); err != nil {
		return err
	}
	header, l, err := swap.Header(size, swap.Options{Page: page, Label: r.Label, UUID: p.Fresh()})
	if err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	p.Title("add the file %s of %v as swap", file, size)
	p.Facts(fs.Fact{Name: "size", Value: fmt.Sprintf("%d pages × %d bytes = %d bytes (%v)", l.Pages, l.Page, size, size)})
	p.Stage.Make(fmt.Sprintf("make %s of %v", file, size), &draft.Making{
		Path:    file,
		Size:    size,
		Header:  header,
		Written: r.Written || how.Written,
		Plain:   how.Plain,
	})
	if r.Persist {
		if err := boot.PutSwapFile(ctx, p, file, r.Options); err != nil {
			return err
		}
	} else {
		p.Note("it is on until the next boot; --persist adds a line of fstab")
	}
	return p.Stage.Tell(ctx, machine.Action{
		Verb:    machine.SwapOn,
		UseArgs: machine.UseArgs{Where: file, Options: strings.Join(r.Options, ",")},
	})
}

// place refuses a file that the kernel would not swap on, before anything is made: it wants
// the places of the blocks from the file system, and writes to them past it.
func (r *SwapAdd) place(p *task.Planner, v *inventory.Inventory, file string, size quantity.Bytes) (how kinds.SwapFile, err error) {
	dir := path.Dir(file)
	if !strings.HasPrefix(r.Path, "/") {
		return how, refused.As(refused.SettingWrong, fmt.Errorf("%s: a file to swap on is named by its whole path", r.Path))
	}
	at, err := p.Stage.Place(file)
	if err != nil {
		return how, err
	}
	above, err := p.Stage.Place(dir)
	switch {
	case err != nil:
		return how, err
	case at.There:
		return how, way.To(refused.As(refused.Exists, fmt.Errorf("%s: there is something of that name already", file)), way.SwapList())
	case !above.There:
		return how, refused.As(refused.NoDirectory, fmt.Errorf("%s: there is no directory %s", file, dir))
	}
	on, _ := v.MountOf(file)
	if n, ok := v.Node(on.Node); ok {
		if c, _ := n.Content(); c.BlockSize > 0 && c.BlockSize < quantity.Bytes(os.Getpagesize()) {
			p.Note("its blocks of %v are smaller than a page: where pieces of the file do not fill one, the kernel leaves it out; fundus swap list says what it took",
				c.BlockSize)
		}
	}
	typ := cmp.Or(on.Kind, at.Volatile, "no file system of a disk")
	var known []string
	for _, s := range kinds.SwapFiles() {
		if known = append(known, s.Type); s.Type == typ {
			how = s
		}
	}
	switch {
	case how.Type == "":
		return how, fmt.Errorf("%s: %w: it would be on %s; Fundus creates such files on %s", file, ErrSwapFile, typ,
			strings.Join(known, ", "))
	case on.ReadOnly:
		return how, fmt.Errorf("%s: %w: %s is mounted read-only", file, ErrSwapFile, on.Where)
	case on.Space.Total > 0 && size > on.Space.Free:
		return how, fmt.Errorf("%s: %v are wanted, and %s has %v free", file, size, on.Where, on.Space.Free)
	case on.Space.Total > 0 && on.Space.Free-size < on.Space.Total/20:
		p.Warn("%s has %v left afterwards, of %v", on.Where, on.Space.Free-size, on.Space.Total)
	}
	if how.Untried {
		p.Warn("it is made as the kernel wants it on %s (one device, never copied, no snapshot of it); no proof of Fundus has tried that",
			typ)
	}
	return how, nil
}
