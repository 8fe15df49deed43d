package cli

import "github.com/spf13/cobra"

func newDemo(e *Env) *cobra.Command {
	return &cobra.Command{Use: "demo", Short: "x", Example: "  fundus demo\n  fundus demo --keep x"}
}
