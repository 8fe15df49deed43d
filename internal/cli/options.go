package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"fundus/core/kind"
	"fundus/internal/look"
	"fundus/internal/view"
)

func newOptions(e *Env) *cobra.Command {
	return &cobra.Command{
		Use: "options [KIND]", Short: "List the mount options of a kind, or of every mount",
		Long: `List the mount options of a kind: how each is written, what it does, and what it
needs. Without a KIND it lists those that every mount and every fstab line can
have.`,
		Example:   "  fundus options ext4\n  fundus options swap",
		Args:      words(0, 1, "a kind, or nothing"),
		ValidArgs: kind.MountTypes(),
		RunE: func(_ *cobra.Command, args []string) error {
			typ := ""
			if len(args) > 0 {
				typ = strings.ToLower(args[0])
			}
			list, known := look.MountOptionsOf(typ)
			if !known {
				return usagef("%q: options are known of %s", args[0], strings.Join(kind.MountTypes(), ", "))
			}
			return e.printer().Show(view.MountOptions{MountOptions: list})
		},
	}
}
