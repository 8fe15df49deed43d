package cli

import (
	"github.com/spf13/cobra"

	"fundus/core/kind"
	"fundus/internal/look"
	"fundus/internal/view"
)

func newSettings(e *Env) *cobra.Command {
	return &cobra.Command{
		Use: "settings [KIND|TARGET]", Short: "List what file systems can be made with, or what one was made with",
		Long: `List the settings of every kind that fundus format makes, of one kind, or with their
values of today those of the file system on a device: what each is for, what it
takes, what it is where nothing is said, and when it can be set.`,
		Example: "  fundus settings ext4\n  fundus settings sda1",
		Args:    words(0, 1, "at most one kind or device"),
		ValidArgsFunction: func(cmd *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
			devices, directive := e.completeDevices(cmd, args, begun)
			if len(args) > 0 {
				return devices, directive
			}
			return append(kind.Words(), devices...), directive
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			word := ""
			if len(args) == 1 {
				word = args[0]
			}
			if _, err := kind.FindMaker(word); err == nil || word == "" {
				list, err := look.SettingsOf(e.configuration(), word)
				if err != nil {
					return err
				}
				return e.printer().Show(view.Settings{List: list})
			}
			m, err := e.open(cmd.Context(), word)
			if err != nil {
				return err
			}
			s, err := look.Settings(cmd.Context(), m.Machine, word)
			if err != nil {
				return err
			}
			return e.printer().Show(view.Settings{List: []look.KindSettings{s}})
		},
	}
}
