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
	return e.group("swap", "List swap areas, create them, turn them on and off", "  fundus swap list\n  fundus swap on sdb2 --persist",
		newSwapList(e), newSwapAdd(e), newSwapOn(e), newSwapOff(e))
}

func newSwapList(e *Env) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List swap areas: size, use, and what turns them on",
		Long: `List swap areas, files and compressed memory too: how large each is, how much of
it is used, in which order, and which line of fstab turns it on at boot.`,
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
		Use: "add PATH SIZE", Short: "Create a swap file and turn it on",
		Long: `Create a swap file with its blocks allocated, readable by root alone, and turn it
on. --persist adds the fstab line as well. Undo turns it off and removes it.`,
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
				if _, other := quantity.Parse(args[0]); other == nil {
					return usageWay(way.SwapAdd(args[1], args[0], "--draft"), "the file stands before the size")
				}
				return usageError{err}
			}
			return e.change(cmd, r)
		},
	}
	f := cmd.Flags()
	f.StringVar(&options, "options", "", "swap `OPTIONS`: pri=N, discard")
	f.StringVar(&r.Label, "label", "", "`LABEL` of the area")
	f.BoolVar(&r.Persist, "persist", false, "add the fstab line as well")
	f.BoolVar(&r.Written, "written", false, "write zeros instead of allocating the blocks")
	return e.addChange(cmd)
}

func newSwapOn(e *Env) *cobra.Command {
	r := &mount.SwapOn{}
	var options string
	var all bool
	cmd := &cobra.Command{
		Use: "on [TARGET…]", Short: "Turn swap areas on, now or at each boot",
		Long: `Turn a swap area on, with the options of its fstab line or those you give: pri=N
(the highest is used first) and discard. It acts at once and says how to reverse
it; with --persist, which adds the fstab line, it drafts first.`,
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
	f.BoolVar(&all, "all", false, "every area that fstab turns on at boot")
	return e.addChange(cmd)
}

func newSwapOff(e *Env) *cobra.Command {
	var all bool
	cmd := &cobra.Command{
		Use: "off [TARGET…]", Short: "Turn swap areas off",
		Long: `Turn swap areas off. Their contents move to memory and to other areas; without
space there it is refused, with figures, because the kernel would start killing
programs. Ctrl-C leaves the area on.`,
		Example:           "  fundus swap off sdb2\n  fundus swap off --all",
		Args:              words(0, 16, "areas, or --all"),
		ValidArgsFunction: e.completeDevices,
		RunE: func(cmd *cobra.Command, args []string) error {
			if all != (len(args) == 0) {
				return usageWay(way.Help("swap", "off"), "name a swap area, or say --all")
			}
			if all {
				return e.giveUpAll(cmd.Context())
			}
			return e.use(cmd.Context(), &mount.SwapOff{Targets: args}, way.SwapOn)
		},
	}
	cmd.Flags().BoolVar(&all, "all", false, "every area that fstab names")
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
