package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fundus/core/inventory"
	"fundus/core/progress"
	"fundus/core/way"
	"fundus/internal/act"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/task"
	"fundus/internal/task/mount"
	"fundus/internal/view"
)

func newMount(e *Env) *cobra.Command {
	r := &mount.Mount{}
	var options string
	var all, again bool
	cmd := &cobra.Command{
		Use: "mount [TARGET [DIRECTORY]]", Short: "Mount a file system, now or at each boot",
		Long:              `Mount a file system. With --persist, --owner, --mode or --link it drafts first.`,
		Example:           "  fundus mount /srv/herbarium\n  fundus mount sdb1 /srv/herbarium --persist",
		Args:              words(0, 2, "a device and a directory, a mount point of fstab, or --all"),
		ValidArgsFunction: e.completePlaces,
		RunE: func(cmd *cobra.Command, args []string) error {
			if all != (len(args) == 0) {
				return usageWay(way.Help("mount"), "say either what to mount or --all")
			}
			if (all || again) && r.Home != (mount.Home{}) {
				return usageWay(way.Help("mount"),
					"--owner, --below, --mode and --link are about one mount, by themselves or with --persist: not with --all or --remount")
			}
			if all {
				if options != "" || r.Untouched || r.Persist || again {
					return usageWay(way.Help("mount"),
						"--all mounts each line as it says: not with --options, --untouched, --persist or --remount")
				}
				return e.all(cmd.Context(), "mount", func(v *inventory.Inventory) []act.Job { return act.MountAll(v, r.Make) })
			}
			if len(args) == 2 && strings.HasPrefix(args[0], "/") && !strings.HasPrefix(args[0], "/dev/") && deviceLike(args[1]) && args[1][0] != '/' {
				return usageWay(way.Mount(args[1], args[0]), "the device stands before the directory")
			}
			r.Target, r.Options = args[0], split(options)
			if len(args) == 2 {
				r.Dir = args[1]
			}
			if again {
				return e.use(cmd.Context(), &mount.Remount{Target: args[0], Options: r.Options}, way.Mount, args[0])
			}
			if !reflect.ValueOf(r.Line).IsZero() && !r.Persist {
				return usageWay(way.Help("mount"),
					"--by, --needed, --automount, --idle, --device-wait and --comment are about a line of fstab, which --persist adds")
			}
			if r.Persist || r.Home != (mount.Home{}) {
				if err := checkBy(r.Line.By); err != nil {
					return err
				}
				return e.change(cmd, r)
			}
			return e.use(cmd.Context(), r, way.Unmount, args...)
		},
	}
	f := cmd.Flags()
	f.BoolVar(&r.Untouched, "untouched", false, "read only, and write nothing: no journal replay")
	f.BoolVar(&r.Make, "make", false, "create the directory if it is missing")
	f.BoolVar(&again, "remount", false, "change options of a mount; the others stay")
	f.StringVar(&options, "options", "", "mount `OPTIONS`, separated by commas")
	f.BoolVar(&r.Persist, "persist", false, "add the fstab line as well")
	f.StringVar(&r.Home.Owner, "owner", "", "owner of the mounted top directory: `USER[:GROUP]`")
	f.BoolVar(&r.Home.Below, "below", false, "everything below too; counted first, undo restores it")
	f.StringVar(&r.Home.Mode, "mode", "", "`MODE` of the mounted top directory, octal")
	f.StringVar(&r.Home.Link, "link", "", "create a symbolic link to it at `PATH`")
	f.BoolVar(&all, "all", false, "mount every line of fstab, with each one's result")
	lineFlags(f, &r.Line)
	return e.addChange(cmd)
}

// split is a list of options without the blanks that people put behind commas.
func split(options string) []string {
	var out []string
	for o := range strings.SplitSeq(options, ",") {
		if o = strings.TrimSpace(o); o != "" {
			out = append(out, o)
		}
	}
	return out
}

func newUnmount(e *Env) *cobra.Command {
	r, all := &mount.Unmount{}, false
	cmd := &cobra.Command{
		Use: "unmount [TARGET]", Short: "Unmount a file system",
		Long: `Unmount a file system: name the mount point or the device. It acts at once and
says how to reverse it. --all unmounts everything that the running system does
not need, innermost first.`,
		Example:           "  fundus unmount /srv/herbarium\n  fundus unmount --all",
		Args:              words(0, 1, "one mount point or device, or --all"),
		ValidArgsFunction: e.completeMounted,
		RunE: func(cmd *cobra.Command, args []string) error {
			if all != (len(args) == 0) {
				return usageWay(way.Help("unmount"), "say either what to unmount or --all")
			}
			if all {
				return e.all(cmd.Context(), "unmount", act.UnmountAll)
			}
			r.Target = args[0]
			return e.patiently(cmd.Context(), func() error { return e.use(cmd.Context(), r, way.Mount, args...) })
		},
	}
	f := cmd.Flags()
	f.BoolVar(&all, "all", false, "everything the running system does not need")
	ifThere(cmd, &r.IfThere)
	f.BoolVar(&r.Below, "below", false, "mounts below it too, innermost first")
	f.BoolVar(&r.Detach, "detach", false, "detach it: the device stays in use until unused")
	return e.addChange(cmd)
}

// patiently tries again, as long as somebody may be waited for, while the place is busy.
func (e *Env) patiently(ctx context.Context, try func() error) error {
	const pause = 200 * time.Millisecond
	for until := time.Now().Add(time.Duration(e.o.wait) * time.Second); ; {
		err := try()
		var busy *machine.Refusal
		if !errors.As(err, &busy) || busy.Rule != machine.RuleBusy || time.Now().After(until) {
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(pause):
		}
	}
}

// all carries out what is to be done of everything that the machine has.
func (e *Env) all(ctx context.Context, what string, jobs func(*inventory.Inventory) []act.Job) error {
	m, err := e.open(ctx)
	if err != nil {
		return err
	}
	v, err := m.Machine.Inventory(ctx)
	if err != nil {
		return err
	}
	return e.each(ctx, m, what, jobs(v))
}

// use carries out what changes the running system only.
func (e *Env) use(ctx context.Context, r task.Request, reverse func(words ...string) way.Step, words ...string) error {
	m, err := e.open(ctx, words...)
	if err != nil {
		return err
	}
	return e.useOn(ctx, m, r, reverse)
}

func (e *Env) useOn(ctx context.Context, m *onMachine, r task.Request, reverse func(words ...string) way.Step) error {
	d, seen, err := e.act(ctx, m, r)
	if half, is := errors.AsType[*partlyError](err); is {
		if back := waysBack(seen, half.done, reverse); len(back) > 0 {
			return way.To(err, back[0])
		}
	}
	if err != nil {
		return err
	}
	if e.o.draft {
		return e.printer().Show(view.Draft{Draft: d})
	}
	var still []string
	for _, s := range d.Steps {
		if a, is := s.Body.(*draft.Acting); is {
			still = append(still, stillUsed(ctx, m, a.Action)...)
		}
	}
	return e.printer().Show(view.Used{Draft: d, Reverse: waysBack(seen, d.Steps, reverse), Still: still})
}

// waysBack are the commands that reverse the steps, in their order: the last goes back first.
func waysBack(seen *inventory.Inventory, steps []draft.Step, reverse func(words ...string) way.Step) (ways []way.Step) {
	for _, s := range slices.Backward(steps) {
		a, is := s.Body.(*draft.Acting)
		if !is {
			continue
		}
		if words := reverseWords(seen, a.Action); len(words) > 0 {
			ways = append(ways, reverse(words...))
		}
	}
	return ways
}

// stillUsed says who has what was unmounted here mounted in another place of the machine, where
// that can be seen: the device is not free then.
func stillUsed(ctx context.Context, m *onMachine, a machine.Action) (out []string) {
	if a.Verb != machine.Unmount || a.Device == "" {
		return nil
	}
	v, err := m.Machine.Inventory(ctx)
	if err != nil {
		return nil // it was unmounted, which is what was asked for
	}
	for _, u := range v.UsesOf(a.Device) {
		if u.Elsewhere != "" {
			out = append(out, fmt.Sprintf("%s is not free: it is mounted at %s %s", a.Device, u.Where, u.Elsewhere))
		}
	}
	return out
}

func reverseWords(seen *inventory.Inventory, a machine.Action) []string {
	if n, ok := seen.Node(a.Device); ok && a.Verb == machine.Unmount && n.Hardware.Backing != "" {
		a.Device = n.Hardware.Backing // its loop device is let go with the mount
	}
	switch a.Verb {
	case machine.Unmount:
		switch {
		case a.Device == "" && a.From == "":
			return nil // nobody keeps how it was mounted
		case slices.ContainsFunc(seen.Others, func(u inventory.Use) bool { return u.Kind == inventory.Automount && u.Where == a.Where }):
			return nil // the next access does it
		case a.Device == "":
			return []string{a.Where}
		}
		words := []string{cmp.Or(a.From, a.Device), a.Where}
		if a.Options != "" {
			words = append(words, "--options="+a.Options)
		}
		return words
	case machine.Remount:
		return []string{a.Where, "--remount", "--options=" + a.FormerOptions}
	case machine.SwapOn, machine.SwapOff:
		return []string{cmp.Or(a.Device, a.Where)}
	}
	return []string{a.Where}
}

// act carries out what changes the running system only; with the draft it gives the machine as
// it was.
func (e *Env) act(ctx context.Context, m *onMachine, r task.Request) (*draft.Draft, *inventory.Inventory, error) {
	s, err := e.conditions(m)
	if err != nil {
		return nil, nil, err
	}
	plan, err := task.Plan(ctx, s, r)
	if err != nil {
		return nil, nil, err
	}
	defer plan.Close()
	if e.o.draft {
		return &plan.Draft, plan.Seen, nil
	}
	shown := e.progress()
	defer shown.finish()
	ctx = progress.Within(ctx, shown.report)
	for i, step := range plan.Draft.Steps {
		a, is := step.Body.(*draft.Acting)
		if !is {
			return nil, nil, fmt.Errorf("%s: %q changes more than the running system; --commit carries it out as a change",
				r.Verb(), step.Title)
		}
		if err := m.Machine.Do(ctx, plan.Seen, a.Action); err != nil {
			return nil, plan.Seen, partly(plan.Draft.Steps[:i], err)
		}
	}
	return &plan.Draft, plan.Seen, nil
}

// partlyError is a failure behind something that was done at once, and stays.
type partlyError struct {
	done []draft.Step
	err  error
}

func (e *partlyError) Error() string {
	var titles []string
	for _, s := range e.done {
		titles = append(titles, s.Title)
	}
	return fmt.Sprintf("%v; done before that, and left so: %s", e.err, strings.Join(titles, ", "))
}

// Unwrap gives the cause.
func (e *partlyError) Unwrap() error { return e.err }

// partly says what was done before the error; nothing more where nothing was.
func partly(done []draft.Step, err error) error {
	if len(done) == 0 {
		return err
	}
	return &partlyError{done, err}
}

// each carries out several things one after the other, and says what became of each. A
// failure of one is that of the whole, and what is otherwise than its line a finding.
func (e *Env) each(ctx context.Context, m *onMachine, what string, jobs []act.Job) error {
	rows := make([]view.Job, 0, len(jobs))
	var failed, differs bool
	for _, j := range jobs {
		if j.Request != nil {
			d, _, err := e.act(ctx, m, j.Request)
			switch {
			case err != nil:
				j.Result, j.Reason = act.Failed, plain(err)
			case d.Empty():
				j.Result = act.Was
			default:
				j.Result = act.Done
			}
		}
		failed, differs = failed || j.Result == act.Failed, differs || j.Result == act.Otherwise
		rows = append(rows, view.Job{Line: j.Line, Thing: j.Thing, Result: string(j.Result), Reason: j.Reason})
	}
	if err := e.printer().Show(view.Jobs{What: what, Draft: e.o.draft, List: rows}); err != nil {
		return err
	}
	switch {
	case failed:
		return errFailed
	case differs:
		return errFindings
	}
	return nil
}

// errFailed says that one of several failed, which was said already.
var errFailed = errors.New("not everything could be done")
