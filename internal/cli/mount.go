package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"fundus/core/text/fstab"
	"fundus/internal/draft"
	"fundus/internal/look"
	"fundus/internal/machine"
	"fundus/internal/task"
	"fundus/internal/task/use"
	"fundus/internal/view"
)

func newMount(e *Env) *cobra.Command {
	r := &use.Mount{}
	var options string
	var all bool
	cmd := &cobra.Command{
		Use: "mount [TARGET [DIRECTORY]]", Short: "Mount a file system, now or for good",
		Long: `Mount a file system: where fstab says, or in the directory that is named. It acts
at once and says how to reverse it. --persist adds the fstab line as well, and
then it is a change that is shown first.`,
		Example:           "  fundus mount /srv/herbarium\n  fundus mount sdb1 /srv/herbarium --persist",
		Args:              words(0, 2, "a device and a directory, a mount point of fstab, or --all"),
		ValidArgsFunction: e.completePlaces,
		RunE: func(cmd *cobra.Command, args []string) error {
			if all != (len(args) == 0) {
				return usageWay("fundus help mount", "say either what to mount or --all")
			}
			if all {
				return e.mountAll(cmd.Context())
			}
			r.Target, r.Options = args[0], split(options)
			if len(args) == 2 {
				r.Dir = args[1]
			}
			if r.Persist {
				return e.change(cmd, r, args[0])
			}
			return e.use(cmd.Context(), r, "fundus unmount %s", args...)
		},
	}
	f := cmd.Flags()
	f.StringVar(&options, "options", "", "mount `OPTIONS`, separated by commas")
	f.BoolVar(&r.Persist, "persist", false, "add the fstab line as well")
	f.BoolVar(&all, "all", false, "mount every line of fstab and say each one's result")
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
	return e.addChange(&cobra.Command{
		Use: "unmount TARGET", Short: "Take a mount away",
		Long:              "Take a mount away: the mount point or the device is named. It acts at once and says how to reverse it.",
		Example:           "  fundus unmount /srv/herbarium\n  fundus unmount sdb1",
		Args:              words(1, 1, "one mount point or device"),
		ValidArgsFunction: e.completeMounted,
		RunE: func(cmd *cobra.Command, args []string) error {
			return e.use(cmd.Context(), &use.Unmount{Target: args[0]}, "fundus mount %s", args...)
		},
	})
}

// use carries out what changes the running system only.
func (e *Env) use(ctx context.Context, r task.Request, reverse string, words ...string) error {
	m, err := e.open(ctx, words...)
	if err != nil {
		return err
	}
	d, err := e.act(ctx, m, r)
	if err != nil {
		return err
	}
	if e.o.draft {
		return e.printer().Show(view.Draft{Draft: d})
	}
	way := ""
	for _, s := range d.Steps {
		if s.Action != nil {
			way = fmt.Sprintf(reverse, strings.TrimSpace(reverseWords(*s.Action)))
		}
	}
	return e.printer().Show(view.Used{Draft: d, Reverse: way})
}

func reverseWords(a machine.Action) string {
	if a.Verb == machine.Unmount {
		return a.Node + " " + a.Where
	}
	return a.Where
}

func (e *Env) act(ctx context.Context, m *onMachine, r task.Request) (*draft.Draft, error) {
	s := task.Conditions{Machine: m, Store: m.store, Clock: e.Now(), Spill: spill(m.store), Config: e.configuration()}
	if _, err := io.ReadFull(e.Random, s.Seed[:]); err != nil {
		return nil, err
	}
	plan, err := task.Plan(ctx, s, r)
	if err != nil {
		return nil, err
	}
	defer plan.Close()
	if e.o.draft {
		return &plan.Draft, nil
	}
	for _, step := range plan.Draft.Steps {
		if step.Action == nil {
			return nil, fmt.Errorf("%s: %q changes more than the running system; --commit carries it out as a change", r.Verb(), step.Title)
		}
		if err := m.Do(ctx, plan.Seen, *step.Action); err != nil {
			return nil, err
		}
	}
	return &plan.Draft, nil
}

// mountAll mounts every line of fstab that is for boot, and says each result.
func (e *Env) mountAll(ctx context.Context) error {
	m, err := e.open(ctx)
	if err != nil {
		return err
	}
	rehearsal, err := look.Rehearse(ctx, m)
	if err != nil {
		return err
	}
	var failed []error
	p := e.printer()
	for _, l := range rehearsal.Lines {
		if l.Outcome == "not at boot" || l.Kind == fstab.Swap || l.Dir == "" {
			continue
		}
		words := fmt.Sprintf("line %d  %s: %s", l.Number, l.Dir, l.Reason)
		if l.Outcome == "mounted" && l.Device != "" {
			d, err := e.act(ctx, m, &use.Mount{Target: l.Dir})
			switch {
			case err != nil:
				words = fmt.Sprintf("line %d  %s: %v", l.Number, l.Dir, err)
			case d.Empty():
				words = fmt.Sprintf("line %d  %s: %s is mounted already", l.Number, l.Dir, l.Device)
			default:
				words = fmt.Sprintf("line %d  %s: mounted %s", l.Number, l.Dir, l.Device)
			}
			failed = append(failed, err)
		} else if l.Outcome == "emergency shell" {
			failed = append(failed, fmt.Errorf("line %d (%s) cannot be mounted", l.Number, l.Dir))
		}
		if !e.o.json {
			if err := p.Show(view.Message{Kind: "message", Text: words}); err != nil {
				return err
			}
		}
	}
	if err := errors.Join(failed...); err != nil || !e.o.json {
		return err
	}
	return p.Show(view.Rehearsal{Rehearsal: rehearsal})
}
