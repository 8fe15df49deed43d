package cli

import (
	"github.com/spf13/cobra"

	"fundus/internal/task/content"
)

func newErase(e *Env) *cobra.Command {
	r := &content.Erase{}
	cmd := &cobra.Command{
		Use: "erase TARGET", Short: "Remove the signatures that identify a device's contents",
		Long: `Remove the signatures that identify a device's contents: all of them, or with
--only one that was left after and contradicts another. The contents are not
overwritten, nor are copies of superblocks inside them. A partition table is
replaced with fundus table new.`,
		Example:           "  fundus erase sdb1\n  fundus erase sdc --only ext4@1080 --draft",
		Args:              words(1, 1, "one device"),
		ValidArgsFunction: e.complete(unusedDevice),
		RunE:              func(cmd *cobra.Command, args []string) error { r.Target = args[0]; return e.change(cmd, r) },
	}
	f := cmd.Flags()
	f.StringArrayVar(&r.Only, "only", nil, "this signature alone: `KIND` or KIND@BYTE (repeatable)")
	f.StringVar(&r.References, "references", "", "fstab lines that name it: drop, disable or keep")
	return e.addChange(cmd)
}
