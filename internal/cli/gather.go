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
		Use: "gather PLACE", Short: "Defragment files of a mounted file system",
		Long: `Defragment files of a mounted ext4 or XFS, worst first, one at a time, into space
reserved beforehand; a tenth of the free space is never used. Files can be used
meanwhile; a file being written is skipped. --draft shows what would be gained.
Ctrl-C and --for stop between two files, and keep what is done.`,
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
	cmd.Flags().StringVar(&within, "for", "", "start no file after this `TIME`, such as 10min")
	return e.addChange(cmd)
}
