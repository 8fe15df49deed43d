package cli

import (
	"errors"

	"github.com/spf13/cobra"

	"fundus/core/progress"
	"fundus/core/text/fstab"
	"fundus/core/way"
	"fundus/internal/act"
	"fundus/internal/view"
)

func newGather(e *Env) *cobra.Command {
	within := ""
	cmd := &cobra.Command{
		Use: "gather PLACE", Short: "Put files together that lie in many pieces",
		Long: `Have the kernel put files of a mounted ext4 or XFS together that lie in more pieces
than they need, the worst first, one at a time and into room that is set aside
before; a tenth of the room is left alone. They can be used meanwhile: one that is
written at that moment is left as it lies. --draft says what it is worth. Ctrl-C
and --for end it between two files, and what is done stays.`,
		Example:           "  fundus gather /srv/herbarium --draft\n  fundus gather /srv/herbarium --for 10min",
		Args:              words(1, 1, "a directory, or what is mounted"),
		ValidArgsFunction: e.completeMounted,
		RunE: func(cmd *cobra.Command, args []string) error {
			g := act.Gather{Place: args[0], Look: e.o.draft}
			if within != "" {
				span, ok := fstab.Span(within)
				if !ok || span <= 0 {
					return usageWay(way.Help("gather"), "--for=%s: a span of time is wanted, such as 10min or 90s", within)
				}
				g.For = span
			}
			m, err := e.open(cmd.Context())
			if err != nil {
				return err
			}
			shown := e.progress()
			done, err := g.Run(progress.Within(cmd.Context(), shown.report), m.Machine)
			shown.finish()
			if done != nil && done.Place != "" {
				err = errors.Join(e.printer().Show(view.Gathered{Gathered: done, Draft: e.o.draft}), err)
			}
			return err
		},
	}
	cmd.Flags().StringVar(&within, "for", "", "begin no file after this `TIME`, such as 10min")
	return e.addChange(cmd)
}
