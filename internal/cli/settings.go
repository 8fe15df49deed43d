package cli

import (
	"github.com/spf13/cobra"

	"fundus/core/kind"
	"fundus/core/way"
	"fundus/internal/look"
	"fundus/internal/view"
)

func newSettings(e *Env) *cobra.Command {
	return &cobra.Command{
		Use: "settings [KIND|TARGET [KEY]]", Short: "List the settings of a kind, or of a file system",
		Long: `List the settings of every kind that fundus format creates, of one kind, or the
current ones of a file system: what each is for, what it accepts, its default,
and when it can be set. A KEY shows one in full.`,
		Example: "  fundus settings ext4 journal\n  fundus settings sda1",
		Args:    words(0, 2, "a kind or a device, and the key of one setting"),
		ValidArgsFunction: func(cmd *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
			devices, directive := e.completeDevices(cmd, args, begun)
			if len(args) > 0 {
				return devices, directive
			}
			return append(kind.Words(), devices...), directive
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			word, list := "", []look.KindSettings(nil)
			if len(args) > 0 {
				word = args[0]
			}
			if _, err := kind.FindMaker(word); err == nil || word == "" {
				if list, err = look.SettingsOf(e.configuration(), word); err != nil {
					return err
				}
			} else {
				m, err := e.open(cmd.Context(), word)
				if err != nil {
					return err
				}
				s, err := look.Settings(cmd.Context(), m.Machine, word)
				if err != nil {
					return err
				}
				list = []look.KindSettings{s}
			}
			if len(args) == 2 {
				only, err := look.Only(list, args[1])
				if err != nil {
					return way.To(err, way.Settings(args[0]))
				}
				list = only
			}
			return e.printer().Show(view.Settings{List: list})
		},
	}
}
