package use

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/memory"
	"fundus/core/target"
	"fundus/core/text/fstab"
	"fundus/internal/machine"
	"fundus/internal/task"
)

// SwapOn has the kernel swap on an area. Without Persist it changes the running system only.
type SwapOn struct {
	Target  string   `json:"target"`
	Options []string `json:"options,omitempty"` // pri= and discard; default: what fstab says
	Persist bool     `json:"persist,omitempty"` // an fstab line as well
}

// Verb of the request.
func (*SwapOn) Verb() string { return "swap on" }

func (r *SwapOn) Plan(ctx context.Context, p *task.Planner) error {
	v, err := p.Now(ctx)
	if err != nil {
		return err
	}
	n, err := target.Resolve(v, r.Target)
	file := err != nil && strings.HasPrefix(r.Target, "/") && !strings.HasPrefix(r.Target, "/dev/") // the kernel judges it
	if err != nil && !file {
		return err
	}
	options := r.Options
	by := v.Resolver()
	for _, u := range v.Units() {
		names := u.Entry.Spec == r.Target || slices.ContainsFunc(by.Resolve(u.Entry.Spec), func(o inventory.Node) bool { return o.Name == n.Name })
		if u.Entry.IsSwap() && len(options) == 0 && names {
			options = u.Entry.Options
		}
	}
	if err := checkSwapOptions(options); err != nil {
		return err
	}
	p.Title("swap on %s", cmp.Or(n.Name, r.Target))
	if file {
		if slices.ContainsFunc(v.Areas, func(a inventory.Area) bool { return a.Path == r.Target }) {
			return nil
		}
		return p.Stage.Tell(ctx, machine.Action{Verb: machine.SwapOn, Where: r.Target, Options: strings.Join(options, ",")})
	}
	if r.Persist {
		if err := p.Do(ctx, &FstabAdd{Target: r.Target, Dir: string(fstab.Swap), Options: r.Options}); err != nil {
			return err
		}
		p.Title("swap on %s, now and at each boot", n.Name)
	}
	if swapsOn(v, n.Name) {
		return nil
	}
	return p.Stage.Tell(ctx, machine.Action{Verb: machine.SwapOn, Node: n.Name, Options: strings.Join(options, ",")})
}

// checkSwapOptions refuses what the kernel would take for something else.
func checkSwapOptions(options []string) error {
	e := fstab.Entry{Options: options}
	if value, ok := e.Value("pri"); ok {
		var n int
		if _, err := fmt.Sscan(value, &n); err != nil || n < -1 || n > 32767 || value != fmt.Sprint(n) {
			return fmt.Errorf("pri=%s: a priority is a number from 0 to 32767; the highest is used first", value)
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
		return nil
	}
	sum := memory.GiveUp(v.Memory, v.Areas, paths...)
	p.Facts(fs.Fact{Name: "in use", Value: sum.String()})
	if !sum.Fits() {
		return &machine.Refusal{Rule: machine.RuleMemory, Thing: strings.Join(r.Targets, " "), Text: sum.String() + ": the kernel would kill programs to make room", Next: "fundus swap list"}
	}
	for _, a := range off {
		if err := p.Stage.Tell(ctx, machine.Action{Verb: machine.SwapOff, Node: a.Node, Where: map[bool]string{true: a.Path}[a.Node == ""], Options: map[bool]string{true: fmt.Sprintf("pri=%d", a.Priority)}[a.Priority >= 0]}); err != nil {
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
	if err != nil {
		return inventory.Area{}, err
	}
	for _, a := range v.Areas {
		if a.Node == n.Name {
			return a, nil
		}
	}
	if c, ok := n.Content(); !ok || c.Class != fs.Swap {
		return inventory.Area{}, &machine.Refusal{Rule: machine.RuleNotSwap, Thing: n.Name, Text: fmt.Sprintf("it is no swap area (%s)", cmp.Or(n.Holds(), "nothing")), Next: "fundus swap list"}
	}
	return inventory.Area{}, nil
}

func swapsOn(v *inventory.Inventory, node string) bool {
	return slices.ContainsFunc(v.UsesOf(node), func(u inventory.Use) bool { return u.How == inventory.SwapOn })
}
