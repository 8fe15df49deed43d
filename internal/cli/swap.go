package cli

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"fundus/core/quantity"
	"fundus/core/way"
	"fundus/internal/act"
	"fundus/internal/look"
	"fundus/internal/task"
	"fundus/internal/task/mount"
	"fundus/internal/task/several"
	"fundus/internal/view"
)

func newSwap(e *Env) *cobra.Command {
	cmd := &cobra.Command{
		Use: "swap", Short: "What the machine swaps on",
		Long:    "List the areas that the machine swaps on or could, turn them on and off.",
		Example: "  fundus swap list\n  fundus swap on sdb2 --persist",
	}
	cmd.AddCommand(newSwapList(e), newSwapAdd(e), newSwapOn(e), newSwapOff(e))
	return cmd
}

func newSwapList(e *Env) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the areas of swap: what is used of them, and what turns them on",
		Long: `List the areas of swap, files and compressed memory too: how large each is and how
much of it is used, in which order they are used, and which line of fstab turns
them on at boot.`,
		Example: "  fundus swap list\n  fundus swap list --json",
		Args:    words(0, 0, "nothing more"),
		RunE: func(cmd *cobra.Command, args []string) error {
			m, err := e.open(cmd.Context())
			if err != nil {
				return err
			}
			s, err := look.SwapOf(cmd.Context(), m.Machine)
			if err != nil {
				return err
			}
			return e.printer().Show(view.Swap{Swap: s})
		},
	}
}

func newSwapAdd(e *Env) *cobra.Command {
	r := &mount.SwapAdd{}
	var options string
	cmd := &cobra.Command{
		Use: "add PATH SIZE", Short: "Make a file to swap on, and turn it on",
		Long: `Make a file of the size with blocks of its own, that only root may read, and have
the kernel swap on it. --persist adds the fstab line as well. Undo
gives it up and takes it away.`,
		Example: "  fundus swap add /srv/swap 4GiB\n  fundus swap add /srv/swap 4GiB --options=pri=5 --persist",
		Args:    words(2, 2, "a path and a size"),
		ValidArgsFunction: func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			if len(args) == 0 {
				return nil, cobra.ShellCompDirectiveDefault // files
			}
			return []string{"1GiB", "2GiB", "4GiB", "8GiB", "16GiB"}, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			r.Path, r.Options = args[0], split(options)
			if r.Size, err = quantity.Parse(args[1]); err != nil {
				return usageError{err}
			}
			return e.change(cmd, r)
		},
	}
	f := cmd.Flags()
	f.StringVar(&options, "options", "", "swap `OPTIONS`: pri=N, discard")
	f.StringVar(&r.Label, "label", "", "the area's `LABEL`")
	f.BoolVar(&r.Persist, "persist", false, "add the fstab line as well")
	f.BoolVar(&r.Written, "written", false, "write its zeros, instead of setting the blocks aside")
	return e.addChange(cmd)
}

func newSwapOn(e *Env) *cobra.Command {
	r := &mount.SwapOn{}
	var options string
	var all bool
	cmd := &cobra.Command{
		Use: "on [TARGET…]", Short: "Swap on an area, now or for good",
		Long: `Have the kernel swap on an area, with the options of its line in fstab or those
that are named: pri=N, of which the highest is used first, and discard. It acts
at once and says how to reverse it. --persist adds the fstab line as well, and
then it is a change that is shown first.`,
		Example:           "  fundus swap on sdb2 --options=pri=10 --persist\n  fundus swap on --all",
		Args:              words(0, 16, "areas, or --all"),
		ValidArgsFunction: e.completeDevices,
		RunE: func(cmd *cobra.Command, args []string) error {
			r.Options = split(options)
			switch {
			case all != (len(args) == 0):
				return usageWay(way.Help("swap", "on"), "say either what to swap on or --all")
			case all:
				return e.all(cmd.Context(), "swap on", act.SwapAll)
			case r.Persist && len(args) > 1:
				return usageWay(way.Help("swap", "on"), "--persist is for one area at a time")
			}
			if r.Target = args[0]; r.Persist {
				return e.change(cmd, r)
			}
			if len(args) == 1 {
				return e.use(cmd.Context(), r, way.SwapOff)
			}
			var each []task.Request
			for _, word := range args {
				each = append(each, &mount.SwapOn{Target: word, Options: r.Options})
			}
			list, err := several.Of("swap on "+strings.Join(args, " "), each...)
			if err != nil {
				return err
			}
			return e.use(cmd.Context(), list, way.SwapOff)
		},
	}
	f := cmd.Flags()
	f.StringVar(&options, "options", "", "swap `OPTIONS`: pri=N, discard")
	f.BoolVar(&r.Persist, "persist", false, "add the fstab line as well")
	f.BoolVar(&all, "all", false, "each line of fstab that is for boot")
	return e.addChange(cmd)
}

func newSwapOff(e *Env) *cobra.Command {
	var all bool
	cmd := &cobra.Command{
		Use: "off [TARGET…]", Short: "Give an area of swap up",
		Long: `Have the kernel give areas of swap up. What is in use on them goes into memory and
onto the others: where that has no room it is refused, with the numbers, since the
kernel would kill programs instead. Ctrl-C leaves the area in use.`,
		Example:           "  fundus swap off sdb2\n  fundus swap off --all",
		Args:              words(0, 16, "areas, or --all"),
		ValidArgsFunction: e.completeDevices,
		RunE: func(cmd *cobra.Command, args []string) error {
			if all != (len(args) == 0) {
				return usageWay(way.Help("swap", "off"), "say either what to give up or --all")
			}
			if all {
				return e.giveUpAll(cmd.Context())
			}
			return e.use(cmd.Context(), &mount.SwapOff{Targets: args}, way.SwapOn)
		},
	}
	cmd.Flags().BoolVar(&all, "all", false, "each area that a line of fstab names")
	return e.addChange(cmd)
}

// giveUpAll gives up what lines of fstab turn on.
func (e *Env) giveUpAll(ctx context.Context) error {
	m, err := e.open(ctx)
	if err != nil {
		return err
	}
	v, err := m.Machine.Inventory(ctx)
	if err != nil {
		return err
	}
	var paths []string
	for _, j := range act.SwapAll(v) {
		if j.Result == act.Was {
			paths = append(paths, j.Thing)
		}
	}
	if len(paths) == 0 {
		return e.printer().Show(view.Message{Text: "nothing to do: no area of fstab is on"})
	}
	return e.use(ctx, &mount.SwapOff{Targets: paths}, way.SwapOn)
}
