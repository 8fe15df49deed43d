package cli

import (
	"github.com/spf13/cobra"

	"fundus/internal/look"
	"fundus/internal/view"
)

func newReferences(e *Env) *cobra.Command {
	return &cobra.Command{
		Use: "references TARGET|IDENTIFIER", Short: "Find every file that names a device or an identifier",
		Long: `Find every line that names a device: in fstab, mount and swap units, boot loader
files, kernel command lines, crypttab, and initramfs settings for resume. An
identifier that no device has finds the lines that still use it.`,
		Example: "  fundus references sda1\n  fundus references UUID=5eed5eed-0000-4000-8000-000000000bad",
		Args:    words(1, 1, "one device or identifier"), ValidArgsFunction: e.completeDevices,
		RunE: func(cmd *cobra.Command, args []string) error {
			m, err := e.open(cmd.Context(), args...)
			if err != nil {
				return err
			}
			r, err := look.FindReferences(cmd.Context(), m.Machine, args[0])
			if err != nil {
				return err
			}
			return e.printer().Show(view.References{References: r})
		},
	}
}
